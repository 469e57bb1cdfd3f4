package merge

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/edit"
	"lithos/core/site"
)

// Site takes the parts of another site file: those that the site does not have are added, those that it has otherwise
// are changed, and what only the site has stays. Parts are the same by what they are (the prefix of a network, the name
// of a device), whatever their ids.
func (m *Merger) Site(name string, other *site.Site) error {
	m.source++
	theirs, err := renamed(m.site, other)
	if err != nil {
		return err
	}
	n := 0
	for _, e := range edit.Between(m.site, theirs) {
		if e.Op == edit.Remove || e.Part.Kind == site.KindSite || e.Part.Kind == site.KindCustomer ||
			e.Part.Kind == site.KindStandard {
			continue
		}
		n++
		m.part(name, n, e)
	}
	return nil
}

// part takes one part of a site file.
func (m *Merger) part(source string, n int, e edit.Edit) {
	l := Outcome{ID: fmt.Sprintf("%d.%d", m.source, n), Source: source, State: Changed, Can: true}
	if e.Op == edit.Add {
		l.State = Added
	}
	l.Text = e.Part.String()
	l.Says = edit.Describe(m.site, e)
	if why := m.clash(e); why != "" {
		l.State, l.Says, l.Can = Conflict, l.Says+". "+why, false
		m.lines = append(m.lines, l)
		return
	}
	if l.Taken = m.takes(l); l.Taken {
		now, err := edit.Apply(m.site, e)
		if err != nil {
			l.State, l.Says, l.Can, l.Taken = Wrong, l.Says+". "+sentence(err), false, false
		} else {
			m.site = now
			m.edits = append(m.edits, e)
			m.noteAdded(e)
		}
	}
	m.lines = append(m.lines, l)
}

func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// addressFields are the fields of a part that say what address it has.
type addressFields struct {
	Name    string       `json:"name"`
	Network string       `json:"network"`
	Address netip.Addr   `json:"address"`
	MAC     string       `json:"mac"`
	Prefix  netip.Prefix `json:"prefix"`
}

// clash says why a part cannot be added to the site as it stands.
func (m *Merger) clash(e edit.Edit) string {
	var h addressFields
	if e.Op != edit.Add || json.Unmarshal(e.Value, &h) != nil {
		return ""
	}
	switch e.Part.Kind {
	case site.KindReservation, site.KindFixedDevice:
		if o, taken := m.owners[h.Address]; taken {
			return fmt.Sprintf("%s is the %s's", h.Address, o.name)
		}
		if _, ok := m.site.Network(h.Network); !ok {
			return "The site has no such network; take that first"
		}
	case site.KindNetwork:
		for _, n := range m.site.Networks {
			if h.Prefix.IsValid() && n.Prefix.Overlaps(h.Prefix) {
				return fmt.Sprintf("%s overlaps %s, %s", h.Prefix, n.Name, n.Prefix)
			}
		}
	}
	return ""
}

func (m *Merger) noteAdded(e edit.Edit) {
	var h addressFields
	if e.Op == edit.Add && json.Unmarshal(e.Value, &h) == nil && h.Address.IsValid() {
		m.note(e.Part, h.Address, h.MAC, h.Name, h.Network, 0)
	}
}

// renamed is another site with the ids that its parts have in this one.
func renamed(own, other *site.Site) (*site.Site, error) {
	raw, err := json.Marshal(other)
	if err != nil {
		return nil, err
	}
	var tree any
	if err := json.Unmarshal(raw, &tree); err != nil {
		return nil, err
	}
	raw, err = json.Marshal(replaced(tree, same(own, other)))
	if err != nil {
		return nil, err
	}
	var out site.Site
	if err := json.Unmarshal(raw, &out); err != nil {
		return nil, err
	}
	out.ID = own.ID
	return site.Normal(&out), nil
}

// free are the keys under which people write what they like: it is no id, even if it reads like one.
var free = []string{"name", "note", "reason", "value", "data", "owner", "purpose", "account"}

// replaced is a document with other ids.
func replaced(v any, ids map[string]string) any {
	switch v := v.(type) {
	case map[string]any:
		for key, one := range v {
			if !slices.Contains(free, key) {
				v[key] = replaced(one, ids)
			}
		}
	case []any:
		for i := range v {
			v[i] = replaced(v[i], ids)
		}
	case string:
		if now, ok := ids[v]; ok {
			return now
		}
	}
	return v
}

// same finds the parts of another site that this one has, by what they are: other ids by theirs.
func same(own, other *site.Site) map[string]string {
	ids := map[string]string{other.ID: own.ID}
	sameAddressing(ids, own, other)
	sameNames(ids, own, other)
	return ids
}

// mapped is the id that a part of another document has here; its own where none was found.
func mapped(ids map[string]string, id string) string {
	if now, ok := ids[id]; ok {
		return now
	}
	return id
}

// sameAddressing finds networks, devices, pools and what they give.
func sameAddressing(ids map[string]string, own, other *site.Site) {
	for _, n := range other.Networks {
		pair(ids, own.Networks, n.ID, func(o site.Network) (string, bool) { return o.ID, o.Prefix == n.Prefix })
	}
	for _, d := range other.Devices {
		pair(ids, own.Devices, d.ID, func(o site.Device) (string, bool) {
			return o.ID, strings.EqualFold(o.Name, d.Name)
		})
		mine, ok := own.Device(mapped(ids, d.ID))
		for _, i := range d.Interfaces {
			if ok {
				pair(ids, mine.Interfaces, i.ID, func(o site.Interface) (string, bool) {
					return o.ID,
						o.Name == i.Name
				})
			}
		}
	}
	for _, p := range other.Pools {
		pair(ids, own.Pools, p.ID, func(o site.Pool) (string, bool) {
			like := o.Name == p.Name || slices.Equal(o.Ranges, p.Ranges)
			return o.ID, o.Network == mapped(ids, p.Network) && like
		})
		mine, ok := own.Pool(mapped(ids, p.ID))
		for _, x := range p.Exclusions {
			if ok {
				pair(ids, mine.Exclusions, x.ID, func(o site.Exclusion) (string, bool) {
					return o.ID,
						o.Range == x.Range
				})
			}
		}
	}
	for _, r := range other.Reservations {
		pair(ids, own.Reservations, r.ID, func(o *site.Reservation) (string, bool) {
			alike := !r.MAC.IsZero() && o.MAC == r.MAC || r.Client != "" && o.Client == r.Client
			return o.ID, o.Network == mapped(ids, r.Network) && alike
		})
	}
	for _, f := range other.FixedDevices {
		pair(ids, own.FixedDevices, f.ID, func(o site.FixedDevice) (string, bool) {
			return o.ID, o.Address == f.Address && strings.EqualFold(o.Name, f.Name)
		})
	}
	for _, k := range other.VendorClasses {
		pair(ids, own.VendorClasses, k.ID, func(o site.VendorClass) (string, bool) { return o.ID, o.Match == k.Match })
	}
	for _, d := range other.OptionDefinitions {
		pair(ids, own.OptionDefinitions, d.ID, func(o site.OptionDefinition) (string, bool) {
			return o.ID, o.Code == d.Code
		})
	}
	for _, c := range other.KnownClients {
		pair(ids, own.KnownClients, c.ID, func(o site.KnownClient) (string, bool) { return o.ID, o.MAC == c.MAC })
	}
}

// sameNames finds resolvers, zones, services and dynamic names.
func sameNames(ids map[string]string, own, other *site.Site) {
	for _, r := range other.Resolvers {
		pair(ids, own.Resolvers, r.ID, func(o site.Resolver) (string, bool) {
			return o.ID, o.Device == mapped(ids, r.Device)
		})
	}
	for _, z := range other.Zones {
		pair(ids, own.Zones, z.ID, func(o site.Zone) (string, bool) {
			return o.ID, o.Name == z.Name && o.Side == z.Side
		})
		for _, mine := range own.Zones {
			for _, r := range z.Records {
				if mine.ID == mapped(ids, z.ID) {
					pair(ids, mine.Records, r.ID, func(o *site.Record) (string, bool) {
						return o.ID, o.Owner == r.Owner && o.Type == r.Type && o.Data == r.Data
					})
				}
			}
		}
	}
	for _, v := range other.Services {
		pair(ids, own.Services, v.ID, func(o site.Service) (string, bool) { return o.ID, o.Name == v.Name })
	}
	for _, f := range other.Following {
		pair(ids, own.Following, f.ID, func(o site.Following) (string, bool) { return o.ID, o.Name == f.Name })
	}
	for _, c := range other.Certificates {
		pair(ids, own.Certificates, c.ID, func(o site.Certificate) (string, bool) { return o.ID, o.Name == c.Name })
	}
}

// pair gives an id of another site the one of the part here that is the same.
func pair[T any](ids map[string]string, own []T, id string, is func(T) (string, bool)) {
	for _, o := range own {
		if mine, ok := is(o); ok {
			ids[id] = mine
			return
		}
	}
}
