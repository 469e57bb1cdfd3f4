package edit

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
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
			var was, now any
			_, _ = json.Unmarshal(f.From, &was), json.Unmarshal(f.To, &now)
			changes = append(changes, turned(s, f.Name, was, now)...)
		}
		return "Change " + what + ": " + strings.Join(changes, "; ")
	}
}

// fieldWords is what people call a field where the site file's name is not plain.
var fieldWords = map[string]string{
	"vlan": "VLAN", "untaggedVLAN": "untagged VLAN", "taggedVLANs": "tagged VLANs", "mac": "MAC", "clientId": "client identifier", "mtu": "MTU",
	"peer": "cable to", "relayTo": "relays to", "server": "served by", "forClass": "only for", "forClient": "only for clients",
	"match": "option 60 begins", "subOptions": "sub-options", "method": "gets its address by", "timeZone": "time zone", "parent": "carried by", "members": "ports",
}

// pointers is what kind of part a field names by its id.
var pointers = map[string]string{
	"server": site.KindDevice, "peer": site.KindInterface, "network": site.KindNetwork, "translates": site.KindNetwork, "forClass": site.KindVendorClass,
}

// turned says what became of a field: of one with fields of its own, of each.
func turned(s *site.Site, name string, was, now any) []string {
	before, had := was.(map[string]any)
	after, has := now.(map[string]any)
	switch {
	case name == "uplink" && (had || has):
		var out []string
		for _, key := range slices.Sorted(maps.Keys(before)) {
			if _, stays := after[key]; !stays {
				out = append(out, turned(s, key, before[key], nil)...)
			}
		}
		for _, key := range slices.Sorted(maps.Keys(after)) {
			if !reflect.DeepEqual(before[key], after[key]) {
				out = append(out, turned(s, key, before[key], after[key])...)
			}
		}
		return out
	case name == "enabled":
		return []string{map[bool]string{true: "switched on", false: "switched off"}[now == true]}
	case name == "secret" && now != nil:
		return []string{"another password"}
	}
	label := cmp.Or(fieldWords[name], name)
	if says := regrouped(s, name, was, now); says != "" {
		return []string{label + " " + says}
	}
	return []string{fmt.Sprintf("%s %s, was %s", label, named(s, name, now), named(s, name, was))}
}

// regrouped says what came to a list and what left it, where some of it stays.
func regrouped(s *site.Site, name string, was, now any) string {
	before, _ := was.([]any)
	after, _ := now.([]any)
	without := func(list, other []any) []any {
		return slices.DeleteFunc(slices.Clone(list), func(v any) bool {
			return slices.ContainsFunc(other, func(o any) bool { return reflect.DeepEqual(v, o) })
		})
	}
	came, left := without(after, before), without(before, after)
	var says []string
	if len(came) > 0 {
		says = append(says, "also "+named(s, name, came))
	}
	if len(left) > 0 {
		says = append(says, "no longer "+named(s, name, left))
	}
	if len(left) == len(before) { // nothing stays
		return ""
	}
	return strings.Join(says, ", ")
}

// named puts a value in words, parts by their names.
func named(s *site.Site, field string, v any) string {
	kind := pointers[field]
	if list, ok := v.([]any); ok && kind != "" {
		var out []string
		for _, item := range list {
			out = append(out, named(s, field, item))
		}
		return strings.Join(out, ", ")
	}
	if id, ok := v.(string); ok && kind != "" {
		if d, _, ok := s.Interface(id); ok && kind == site.KindInterface {
			name, _ := NameOf(s, site.Ref{Kind: kind, ID: id})
			return name + " of " + d.Name
		}
		if name, ok := NameOf(s, site.Ref{Kind: kind, ID: id}); ok {
			return name
		}
	}
	return sayAny(v)
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
