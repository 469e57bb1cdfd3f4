package move

import (
	"cmp"
	"encoding/json"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

// Moved is one thing that a move changes.
type Moved struct {
	Part site.Ref `json:"part"`
	What string   `json:"what"`
	Was  string   `json:"was"`
	Will string   `json:"will"`
	How  string   `json:"how" doc:"how it gets there"`
	When string   `json:"when" doc:"when clients notice"`
	Odd  bool     `json:"odd,omitempty" doc:"it is not where the rule would have put it"`
	// Same says that it keeps its host number, as others of its kind do: such rows are shown as one.
	Same bool `json:"same,omitempty"`
}

const (
	atSwap = "at the swap"
	nobody = "clients do not notice"
)

// renewal is when clients learn what they are told: by T2 of the lease that they have by then.
func (m *mapping) renewal() string {
	if m.request.OneNight {
		return "when they renew"
	}
	return "within " + inMinutes(m.request.leaseTime()*7/8) + " of the swap"
}

// rowsOf is one row for each field of each part that differs between two documents of a site.
func rowsOf(m *mapping, was, will *site.Site) []Moved {
	odd := map[netip.Addr]string{}
	for _, t := range m.threads {
		odd[t.From] = t.Odd
	}
	out := []Moved{}
	before, after := namesOf(was), namesOf(will)
	idsBefore, idsAfter := byID(before), byID(after)
	for _, e := range edit.Between(was, will) {
		doc, names := will, after
		if e.Op == edit.Remove {
			doc, names = was, before
		}
		name := names[e.Part]
		if e.Part.Kind == site.KindOption {
			name = names[e.In] + ", option " + e.Part.ID
		}
		row := Moved{Part: e.Part, What: called(doc, e, name)}
		row.How, row.When = ways(doc, e.Part, m.renewal())
		if e.Op != edit.Change {
			if row.What == name {
				row.What = noun(e.Part.Kind) + " " + name
			}
			row.Was, row.Will = map[edit.Op]string{edit.Add: "", edit.Remove: "there"}[e.Op],
				map[edit.Op]string{edit.Add: "added", edit.Remove: "taken away"}[e.Op]
			out = append(out, row)
			continue
		}
		for _, f := range e.Fields {
			if f.Name == "options" || f.Name == "subOptions" {
				out = append(out, optionRows(doc.Own(), row, f)...)
				continue
			}
			one := row
			one.Was, one.Will = plain(f.From, nil), plain(f.To, nil)
			if slices.Contains(pointing, f.Name) {
				one.Was, one.Will = plain(f.From, idsBefore), plain(f.To, idsAfter)
			}
			if label := labels[f.Name]; label != "" {
				one.What += ", " + label
			}
			if a, err := netip.ParseAddr(one.Was); err == nil && f.Name == "address" {
				one.Odd = odd[a] != ""
				one.Same = !one.Odd
				if one.Odd {
					one.How = odd[a]
				}
			}
			out = append(out, one)
		}
	}
	slices.SortStableFunc(out, func(a, b Moved) int { return rank(a.Part.Kind) - rank(b.Part.Kind) })
	return out
}

// optionRows are a row for each option of a part that is told otherwise, by its name.
func optionRows(own option.Own, row Moved, f edit.Field) []Moved {
	values := func(raw json.RawMessage) map[uint8]string {
		var list []site.Option
		_ = json.Unmarshal(raw, &list) // a site file's own
		out := map[uint8]string{}
		for _, o := range list {
			out[o.Code] = o.Value
		}
		return out
	}
	was, will := values(f.From), values(f.To)
	codes := maps.Clone(was)
	maps.Copy(codes, will)
	var out []Moved
	for _, code := range slices.Sorted(maps.Keys(codes)) {
		if was[code] == will[code] {
			continue
		}
		one := row
		one.Was, one.Will = was[code], will[code]
		word := "sub-option " + strconv.Itoa(int(code))
		if d, known := own.Lookup(code); known && f.Name == "options" {
			word = d.InSentence()
		} else if f.Name == "options" {
			word = "option " + strconv.Itoa(int(code))
		}
		one.What += ", " + word
		out = append(out, one)
	}
	return out
}

// namesOf is what the parts of a site are called, all in one pass.
func namesOf(s *site.Site) map[site.Ref]string {
	out := map[site.Ref]string{{Kind: site.KindSite, ID: s.ID}: s.Name}
	for _, k := range site.Kinds() {
		k.Each(s, func(_ site.Ref, list site.List, i int) bool {
			out[site.Ref{Kind: k.Name, ID: list.ID(i)}] = k.Called(list.At(i))
			return true
		})
	}
	return out
}

// called is a part as a row calls it: an interface with its device, what may have the name of its network with its
// kind.
func called(s *site.Site, e edit.Edit, name string) string {
	switch e.Part.Kind {
	case site.KindInterface:
		if d, _, ok := s.Interface(e.Part.ID); ok {
			return d.Name + " " + name
		}
	case site.KindPool, site.KindVendorClass, site.KindZone:
		return noun(e.Part.Kind) + " " + name
	}
	return name
}

// labels are the fields that are not told from their part's name.
var labels = map[string]string{"prefix": "subnet", "vlan": "VLAN", "gateway": "gateway", "addresses": "addresses",
	"untaggedVLAN": "untagged VLAN", "taggedVLANs": "tagged VLANs", "relayTo": "relays to", "ranges": "addresses",
	"options": "options", "forwarders": "forwarders", "domains": "servers of domains", "askers": "who may ask",
	"name": "name", "network": "network", "uplink": "line", "networks": "networks", "block": "block",
	"server":     "server",
	"subOptions": "sub-options", "range": "addresses", "parent": "carried by", "members": "members"}

var ranks = []string{site.KindNetwork, site.KindDevice, site.KindInterface, site.KindPool, site.KindExclusion,
	site.KindReservation, site.KindFixedDevice, site.KindVendorClass, site.KindOption}

func rank(kind string) int {
	if i := slices.Index(ranks, kind); i >= 0 {
		return i
	}
	return len(ranks)
}

func noun(kind string) string {
	if k, ok := site.KindNamed(kind); ok {
		return k.Noun
	}
	return kind
}

// ways is how a part gets to what it will be, and when clients notice.
func ways(s *site.Site, part site.Ref, atRenewal string) (how, when string) {
	switch part.Kind {
	case site.KindNetwork:
		if n, ok := s.Network(part.ID); ok {
			if d, i, _, routed := s.InterfaceOn(n); routed {
				return "on " + d.Name + ", " + i.Name, atSwap
			}
		}
		return "in the document", atSwap
	case site.KindInterface:
		d, i, ok := s.Interface(part.ID)
		switch {
		case ok && cabled(s, i):
			return "on " + d.Name + ", both ends of a cable in one push", atSwap
		case ok:
			return "on " + d.Name, atSwap
		}
		return "on its device", atSwap
	case site.KindPool, site.KindExclusion:
		return "its server hands the new ones out", atRenewal
	case site.KindReservation:
		return "the same host number, told at the next renewal", atRenewal
	case site.KindFixedDevice:
		return "to be visited by hand", "when somebody has been there"
	case site.KindOption, site.KindVendorClass, site.KindSite, site.KindCustomer, site.KindStandard:
		return "told at the next renewal", atRenewal
	case site.KindZone, site.KindRecord, site.KindResolver, site.KindService, site.KindFollowing:
		return "written with the addresses", atSwap
	}
	return "in the document", nobody
}

// cabled reports whether an interface is recorded as one end of a cable.
func cabled(s *site.Site, i *site.Interface) bool {
	return i.Peer != "" || slices.ContainsFunc(s.Devices, func(d site.Device) bool {
		return slices.ContainsFunc(d.Interfaces, func(far site.Interface) bool { return far.Peer == i.ID })
	})
}

// pointing are the fields that name other parts by their ids.
var pointing = []string{"network", "networks", "server", "uplink", "peer", "forwardFrom", "device", "forClass"}

// byID is what parts are called by their ids alone, whatever their kind.
func byID(names map[site.Ref]string) map[string]string {
	out := make(map[string]string, len(names))
	for ref, name := range names {
		out[ref.ID] = name
	}
	return out
}

// plain is a value of a site file in words; an id is written as the name that it stands for.
func plain(raw json.RawMessage, names map[string]string) string {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return string(raw)
	}
	return inWords(v, names)
}

func inWords(v any, names map[string]string) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return cmp.Or(names[v], v)
	case bool:
		return strconv.FormatBool(v)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []any:
		var out []string
		for _, of := range v {
			out = append(out, inWords(of, names))
		}
		return strings.Join(out, ", ")
	case map[string]any:
		if v["from"] != nil && v["to"] != nil {
			return inWords(v["from"], names) + " – " + inWords(v["to"], names)
		}
		var out []string
		for _, key := range []string{"domain", "address", "value", "servers", "method", "translates"} {
			if v[key] != nil {
				out = append(out, inWords(v[key], names))
			}
		}
		return strings.Join(out, " ")
	}
	return ""
}
