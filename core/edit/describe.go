package edit

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lithos/core/site"
)

var nouns = map[string]string{
	site.KindDevice: "device", site.KindInterface: "interface", site.KindNetwork: "network", site.KindPool: "pool",
	site.KindExclusion: "exclusion", site.KindReservation: "reservation", site.KindFixedDevice: "fixed device", site.KindSite: "site",
	site.KindVendorClass: "vendor class", site.KindDefinition: "own option", site.KindKnownClient: "client",
}

// Describe says in one line what an edit does. s is the document before or
// after the edit; it is where names are looked up.
func Describe(s *site.Site, e Edit) string {
	var part map[string]any
	_ = json.Unmarshal(e.Value, &part)
	what := nouns[e.Part.Kind] + " " + title(s, e, part)
	if e.Part.Kind == KindOption {
		return describeOption(s, e, part)
	}
	switch e.Op {
	case Add:
		return "Add " + what + detail(part)
	case Remove:
		return "Remove " + what
	default:
		var changes []string
		for _, f := range e.Fields {
			if f.Name == "enabled" {
				changes = append(changes, map[bool]string{true: "switched on", false: "switched off"}[string(f.To) == "true"])
				continue
			}
			changes = append(changes, fmt.Sprintf("%s %s, was %s", f.Name, say(f.To), say(f.From)))
		}
		return "Change " + what + ": " + strings.Join(changes, "; ")
	}
}

func describeOption(s *site.Site, e Edit, part map[string]any) string {
	o := site.Option{}
	_, _ = fmt.Sscan(e.Part.ID, &o.Code)
	def, _ := s.Own().Lookup(o.Code)
	value := fmt.Sprint(part["value"])
	for _, f := range e.Fields {
		if f.Name == "value" {
			value = say(f.To)
		}
	}
	verb, tail := "Set", " to "+value
	if e.Op == Remove {
		verb, tail = "Stop setting", ""
	}
	name, _ := NameOf(s, e.In)
	return fmt.Sprintf("%s %s (option %d) on %s%s", verb, strings.ToLower(def.Name), o.Code, name, tail)
}

func title(s *site.Site, e Edit, part map[string]any) string {
	for _, key := range []string{"name", "reason"} {
		if v, ok := part[key].(string); ok && v != "" {
			return v
		}
	}
	if name, ok := NameOf(s, e.Part); ok {
		return name
	}
	if v, ok := part["address"].(string); ok {
		return v
	}
	return e.Part.ID
}

func detail(part map[string]any) string {
	for _, key := range []string{"prefix", "address", "range", "ranges", "addresses"} {
		if v, ok := part[key]; ok && v != nil {
			return " " + sayAny(v)
		}
	}
	return ""
}

func say(raw json.RawMessage) string {
	var v any
	_ = json.Unmarshal(raw, &v)
	return sayAny(v)
}

func sayAny(v any) string {
	switch v := v.(type) {
	case nil:
		return "not set"
	case string:
		return v
	case []any:
		var items []string
		for _, item := range v {
			items = append(items, sayAny(item))
		}
		return strings.Join(items, ", ")
	case map[string]any:
		if from, ok := v["from"]; ok {
			if from == v["to"] {
				return fmt.Sprint(from)
			}
			return fmt.Sprintf("%v – %v", from, v["to"])
		}
		var items []string
		for _, key := range slices.Sorted(maps.Keys(v)) {
			items = append(items, key+" "+sayAny(v[key]))
		}
		return strings.Join(items, ", ")
	}
	return fmt.Sprint(v)
}

// NameOf is what people call a part: its name, else its address or reason.
func NameOf(s *site.Site, ref site.Ref) (string, bool) {
	switch ref.Kind {
	case site.KindSite:
		return s.Name, true
	case site.KindCustomer:
		return s.Customer.Name, true
	case site.KindStandard:
		return s.Standard.Name, true
	case site.KindNetwork:
		if n, ok := s.Network(ref.ID); ok {
			return n.Name, true
		}
	case site.KindPool:
		if p, ok := s.Pool(ref.ID); ok {
			return p.Name, true
		}
	case site.KindReservation:
		if r, ok := s.Reservation(ref.ID); ok {
			if r.Name == "" {
				return r.Address.String(), true
			}
			return r.Name, true
		}
	case site.KindFixedDevice:
		if f, ok := s.FixedDevice(ref.ID); ok {
			return f.Name, true
		}
	case site.KindDevice:
		if d, ok := s.Device(ref.ID); ok {
			return d.Name, true
		}
	case site.KindInterface:
		if _, i, ok := s.Interface(ref.ID); ok {
			return i.Name, true
		}
	case site.KindVendorClass:
		if c, ok := s.VendorClass(ref.ID); ok {
			return c.Name, true
		}
	case site.KindDefinition:
		if i := slices.IndexFunc(s.OptionDefinitions, func(d site.OptionDefinition) bool { return d.ID == ref.ID }); i >= 0 {
			return s.OptionDefinitions[i].Name, true
		}
	case site.KindKnownClient:
		if i := slices.IndexFunc(s.KnownClients, func(k site.KnownClient) bool { return k.ID == ref.ID }); i >= 0 {
			return cmp.Or(s.KnownClients[i].Name, s.KnownClients[i].MAC.String()), true
		}
	case site.KindExclusion:
		for _, p := range s.Pools {
			for _, x := range p.Exclusions {
				if x.ID == ref.ID {
					return x.Reason, true
				}
			}
		}
	}
	return ref.ID, false
}
