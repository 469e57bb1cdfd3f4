package topology

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lithos/core/site"
)

// Drawing is the picture of a site's links, in rows and places that the browser
// only scales. What is lit belongs to the path of one network.
type Drawing struct {
	Rows    int     `json:"rows"`
	Places  int     `json:"places"` // of the longest row
	Devices []Box   `json:"devices"`
	Cables  []Joint `json:"cables"`
	Reaches []Plug  `json:"plugs"` // where a client of the network is plugged in
	Breaks  []Crack `json:"breaks"`
	Says    string  `json:"says"` // the path in one sentence
}

// Box is one device.
type Box struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	Row   int    `json:"row"`
	Place int    `json:"place"`
	Lit   bool   `json:"lit"`
	Home  string `json:"home,omitempty"` // its interface with an address in the network
}

// Joint is one cable.
type Joint struct {
	From     string `json:"from"` // device ids
	To       string `json:"to"`
	FromPort string `json:"fromPort"`
	ToPort   string `json:"toPort"`
	Carries  string `json:"carries"` // VLANs, in words
	Lit      bool   `json:"lit"`
	Broken   bool   `json:"broken"`
}

// Plug is a port where a client can be plugged in.
type Plug struct {
	Device string `json:"device"`
	Port   string `json:"port"`
}

// Crack is where the path breaks.
type Crack struct {
	From string `json:"from"` // device ids
	To   string `json:"to"`
	Rule string `json:"rule"`
	Says string `json:"says"`
}

// Draw draws the links of a site with the path of n lit; n may be nil.
func Draw(s *site.Site, n *site.Network) Drawing {
	m := Learn(s)
	d := Drawing{Devices: []Box{}, Cables: []Joint{}, Reaches: []Plug{}, Breaks: []Crack{}}
	var path Path
	if n != nil {
		path = m.Path(n)
	}
	lit, homes := map[string]bool{}, map[string]string{}
	for _, h := range path.Homes {
		lit[h.Device.ID], homes[h.Device.ID] = true, h.Interface.Name
	}
	crossed := map[string]bool{}
	for _, h := range path.Hops {
		lit[h.To.Device.ID] = true
		crossed[h.From.Interface.ID], crossed[h.To.Interface.ID] = true, true
	}
	broken := map[string]bool{}
	for _, b := range path.Breaks {
		broken[b.From.Interface.ID], broken[b.To.Interface.ID] = true, true
		d.Breaks = append(d.Breaks, Crack{b.From.Device.ID, b.To.Device.ID, b.Rule, b.Says})
	}
	for _, p := range path.Plugs {
		d.Reaches = append(d.Reaches, Plug{p.Device.ID, p.Interface.Name})
	}
	count := map[int]int{}
	for i, row := range m.rows() {
		dev := s.Devices[i]
		d.Devices = append(d.Devices, Box{dev.ID, dev.Name, dev.Kind, row, count[row], lit[dev.ID], homes[dev.ID]})
		count[row]++
		d.Rows, d.Places = max(d.Rows, row+1), max(d.Places, count[row])
	}
	for _, c := range m.Cables {
		d.Cables = append(d.Cables, Joint{
			From: c.A.Device.ID, To: c.B.Device.ID, FromPort: c.A.Interface.Name, ToPort: c.B.Interface.Name,
			Carries: carries(c),
			Lit:     crossed[c.A.Interface.ID] && crossed[c.B.Interface.ID], Broken: broken[c.A.Interface.ID] &&
				broken[c.B.Interface.ID],
		})
	}
	if n != nil {
		d.Says = path.Sentence(n)
	}
	return d
}

// Sentence is the path in words.
func (p Path) Sentence(n *site.Network) string {
	switch {
	case len(p.Homes) == 0:
		return fmt.Sprintf("No device has an interface in %s.", n.Prefix)
	case len(p.Breaks) > 0:
		return "The path breaks: " + p.Breaks[0].Says + "."
	case !p.Drawn:
		return fmt.Sprintf("%s is on %s. No cables are recorded.", n.Name, p.Homes[0])
	case len(p.Plugs) == 0:
		return fmt.Sprintf("%s is on %s and comes out at no port.", n.Name, p.Homes[0])
	}
	var at []string
	for _, plug := range p.Plugs {
		at = append(at, plug.String())
	}
	const shown = 3
	more := ""
	if len(at) > shown {
		more = fmt.Sprintf(" and %d more", len(at)-shown)
		at = at[:shown]
	}
	return fmt.Sprintf("%s is on %s and comes out at %s%s.", n.Name, p.Homes[0], strings.Join(at, ", "), more)
}

// carries says which VLANs pass a cable.
func carries(c Cable) string {
	var tags []string
	for _, v := range Tagged(c.A.Device, c.A.Interface) {
		if slices.Contains(Tagged(c.B.Device, c.B.Interface), v) {
			tags = append(tags, fmt.Sprint(v))
		}
	}
	out := ""
	if u := cmp.Or(Untagged(c.A.Device, c.A.Interface), Untagged(c.B.Device, c.B.Interface)); u != 0 {
		out = fmt.Sprintf("%d untagged", u)
	}
	if len(tags) > 0 {
		if out != "" {
			out += ", "
		}
		out += strings.Join(tags, ", ") + " tagged"
	}
	return out
}

// rows places each device of the site: routers and firewalls on top, what hangs
// from them below, in the order of the document.
func (m *Map) rows() []int {
	at := map[string]int{}
	var queue []string
	for _, d := range m.site.Devices {
		if d.Kind == site.Router || d.Kind == site.Firewall {
			at[d.ID] = 0
			queue = append(queue, d.ID)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		for _, c := range m.Cables {
			for _, pair := range [][2]string{{c.A.Device.ID, c.B.Device.ID}, {c.B.Device.ID, c.A.Device.ID}} {
				if _, placed := at[pair[1]]; pair[0] == queue[0] && !placed {
					at[pair[1]] = at[queue[0]] + 1
					queue = append(queue, pair[1])
				}
			}
		}
	}
	loose := map[string]int{site.L3Switch: 1, site.L2Switch: 2, site.Server: 3}
	out := make([]int, len(m.site.Devices))
	for i, d := range m.site.Devices {
		row, placed := at[d.ID]
		if !placed {
			row = loose[d.Kind]
		}
		out[i] = row
	}
	return compact(out)
}

// compact closes up rows that hold nothing.
func compact(rows []int) []int {
	used := slices.Compact(slices.Sorted(slices.Values(rows)))
	for i := range rows {
		rows[i], _ = slices.BinarySearch(used, rows[i])
	}
	return rows
}
