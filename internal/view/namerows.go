package view

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/compile"
	"lithos/core/names"
	"lithos/core/site"
	"lithos/core/zone"
)

// rowsOf lists a zone by names: one row for what one part says of a name in one type.
func (n *namer) rowsOf(z *compile.Pages) []NameRow {
	if z.Side == site.Outside {
		return n.plainRows(z)
	}
	out := []NameRow{}
	index := map[string]int{}
	add := func(e compile.Entry, hidden bool) {
		of := n.ownerOf(e)
		key := e.Owner + "/" + e.Type + "/" + of.String()
		if i, ok := index[key]; ok { // another address of the same machine
			out[i].Inside += ", " + e.Data
			out[i].ReverseSays = cmp.Or(out[i].ReverseSays, n.reverseSays(z.Whole(e), e))
			return
		}
		index[key] = len(out)
		out = append(out, n.row(z, e, of, key, hidden))
	}
	for _, e := range z.Entries {
		add(e, false)
	}
	for _, e := range z.Hidden {
		add(e, true)
	}
	slices.SortStableFunc(out, func(a, b NameRow) int { return cmp.Compare(sortName(a.Name), sortName(b.Name)) })
	return out
}

// challenges are the records by which certificates are had, which their keys write.
func (n *namer) challenges(z *compile.Pages) []NameRow {
	var out []NameRow
	for i := range n.Certificates {
		c := &n.Certificates[i]
		owner, in := zone.Relative(c.Challenge(), z.Name)
		if best := compile.Find(n.book.Outside, c.Challenge()); !in || best != z {
			continue
		}
		ref := site.Ref{Kind: site.KindCertificate, ID: c.ID}
		r := NameRow{Key: ref.String(), Name: owner, Whole: c.Challenge(), Ref: ref.String(), Type: "TXT",
			OutsideSays: "written at need", From: "certificate"}
		if f, ok := n.marks[ref]; ok {
			r.Severity, r.Finding = string(f.Severity), f.ID
		}
		out = append(out, r)
	}
	return out
}

// compared puts what the world is told beside what the document says, and adds what only the server has.
func (n *namer) compared(rows []NameRow, z *compile.Pages, told []zone.Record) []NameRow {
	values := map[string][]string{}
	for _, r := range told {
		key := strings.ToLower(r.Owner) + "/" + r.Type
		values[key] = append(values[key], r.Data)
	}
	ours := map[string]bool{}
	for i := range rows {
		key := rows[i].Name + "/" + rows[i].Type
		ours[key] = true
		if rows[i].From == "certificate" {
			continue
		}
		rows[i].AtServer = "nothing"
		if list := values[key]; slices.Contains(list, rows[i].Outside) {
			rows[i].AtServer = rows[i].Outside
		} else if len(list) > 0 {
			rows[i].AtServer = strings.Join(list, ", ")
		}
	}
	for _, r := range told {
		if key := strings.ToLower(r.Owner) + "/" + r.Type; !ours[key] {
			rows = append(rows, NameRow{Key: "told/" + key + "/" + r.Data, Name: r.Owner,
				Whole: zone.Absolute(r.Owner, z.Name), Type: r.Type, AtServer: r.Data, TTL: r.TTL,
				From: "its server alone"})
		}
	}
	slices.SortStableFunc(rows, func(a, b NameRow) int { return cmp.Compare(sortName(a.Name), sortName(b.Name)) })
	return rows
}

// age is since when the site has a name.
func (n *namer) age(z *compile.Pages, whole, typ string) string {
	if since, known := n.ages[compile.NameKey(z.Side, whole, typ)]; known && n.changed[whole] != "added" {
		return since.UTC().Format(time.RFC3339)
	}
	return ""
}

// sortName puts the zone itself first, and a wildcard where its domain is.
func sortName(name string) string {
	if name == zone.Apex {
		return ""
	}
	return strings.TrimPrefix(name, "*.")
}

// ownerOf is the part that people know an entry by: a device for its interfaces.
func (n *namer) ownerOf(e compile.Entry) site.Ref {
	if e.From.Kind == site.KindInterface {
		if d, _, ok := n.Interface(e.From.ID); ok {
			return site.Ref{Kind: site.KindDevice, ID: d.ID}
		}
	}
	return e.From
}

func (n *namer) row(z *compile.Pages, e compile.Entry, of site.Ref, key string, hidden bool) NameRow {
	whole := z.Whole(e)
	r := NameRow{Key: key, Name: e.Owner, Whole: whole, Ref: of.String(), Type: e.Type, Inside: e.Data, TTL: z.TTL(e),
		From: n.fromWords(e), Hidden: hidden, Changed: n.changed[whole], Since: n.age(z, whole, e.Type)}
	if e.In.ID != "" {
		r.In = e.In.String()
	}
	switch e.From.Kind {
	case site.KindRecord:
		r.NameField, r.ValueField = "owner", "data"
	case site.KindService:
		r.NameField, r.ValueField = "name", "base"
	case site.KindReservation, site.KindFixedDevice:
		r.NameField, r.ValueField = "name", "address"
	case site.KindInterface:
		r.NameField = "name"
	}
	if e.Type == "CNAME" {
		r.Alias = true
		aliases, addresses, _ := compile.Leads(n.book.Inside, whole)
		r.Leads = strings.Join(append(aliases, addresses...), " → ")
	}
	if e.Type == "A" || e.Type == "CNAME" || e.Type == "AAAA" {
		r.Outside, r.OutsideSays = n.outside(whole, e.From.Kind == site.KindRecord || e.From.Kind == site.KindService)
	}
	if e.Type == "A" {
		r.Reverse, r.ReverseSays = "", n.reverseSays(whole, e)
		if a, err := netip.ParseAddr(e.Data); err == nil && r.ReverseSays == "" && slices.Contains(n.reverse[a],
			whole) {
			r.Reverse = e.Data
		}
	}
	for _, ref := range []site.Ref{e.From, of} {
		if f, ok := n.marks[ref]; ok && r.Finding == "" {
			r.Severity, r.Finding = string(f.Severity), f.ID
		}
	}
	return r
}

// outside is what the world is told of a name. That it is told nothing is said of names that somebody
// wrote.
func (n *namer) outside(whole string, byHand bool) (text, says string) {
	if compile.Find(n.book.Outside, whole) == nil {
		return "", ""
	}
	_, addresses, there := compile.Leads(n.book.Outside, whole)
	switch {
	case len(addresses) > 0:
		return strings.Join(addresses, ", "), ""
	case there:
		return "", "leads nowhere"
	case byHand:
		return "", "inside only"
	}
	return "", ""
}

func (n *namer) reverseSays(whole string, e compile.Entry) string {
	a, err := netip.ParseAddr(e.Data)
	if err != nil || !n.Site.Inside(a) || e.From.Kind == site.KindRecord && len(n.reverse[a]) < 2 {
		return "" // a record by hand leaves reverse to what is at its address
	}
	list := n.reverse[a]
	switch {
	case len(list) > 1:
		return fmt.Sprintf("%s names", map[int]string{2: "two", 3: "three"}[min(len(list), 3)])
	case len(list) == 1 && list[0] != whole:
		return list[0]
	case len(list) == 0:
		return "none"
	}
	return ""
}

func (n *namer) fromWords(e compile.Entry) string {
	switch e.From.Kind {
	case site.KindRecord:
		return "by hand"
	case site.KindService:
		if i := slices.IndexFunc(n.Services, func(s site.Service) bool { return s.ID == e.From.ID }); i >= 0 {
			return "service on " + n.Services[i].Base
		}
	case site.KindInterface:
		return "interface"
	}
	if k, ok := site.KindNamed(e.From.Kind); ok {
		return k.Noun
	}
	return ""
}

// plainRows lists a zone as it is: each record by itself.
func (n *namer) plainRows(z *compile.Pages) []NameRow {
	out := []NameRow{}
	for _, e := range z.Entries {
		of := n.ownerOf(e)
		r := NameRow{Key: e.Owner + "/" + e.Type + "/" + e.Data + "/" + of.String(), Name: e.Owner, Whole: z.Whole(e),
			Ref: of.String(), Type: e.Type, TTL: z.TTL(e),
			From: n.fromWords(e), Changed: n.changed[z.Whole(e)], Since: n.age(z, z.Whole(e), e.Type)}
		if e.In.ID != "" {
			r.In = e.In.String()
		}
		if z.Side == site.Outside {
			r.Outside = e.Data
		} else {
			r.Inside = e.Data
		}
		if e.From.Kind == site.KindRecord && e.In.ID == z.Zone.ID {
			r.NameField, r.ValueField = "owner", "data"
		}
		if f, ok := n.marks[e.From]; ok {
			r.Severity, r.Finding = string(f.Severity), f.ID
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b NameRow) int { return cmp.Compare(sortName(a.Name), sortName(b.Name)) })
	return out
}

func (n *namer) reverseZones() []*compile.Pages {
	return slices.DeleteFunc(slices.Clone(n.book.Inside), func(z *compile.Pages) bool {
		_, is := zone.ReversePrefix(z.Name)
		return !is || z.Zone == nil
	})
}

// reverseRows lists addresses by their names, over all reverse zones.
func (n *namer) reverseRows() []NameRow {
	out := []NameRow{}
	for _, z := range n.reverseZones() {
		for _, r := range n.plainRows(z) {
			if r.Type != "PTR" {
				continue
			}
			prefix, _ := zone.ReversePrefix(z.Name)
			name := r.Whole
			if prefix.Bits() > 24 {
				name = r.Name + "." + zone.ReverseParent(prefix)
			}
			if a, ok := zone.Reversed(name); ok {
				r.Name = a.String()
			}
			out = append(out, r)
		}
	}
	slices.SortStableFunc(out, func(a, b NameRow) int {
		x, _ := netip.ParseAddr(a.Name)
		y, _ := netip.ParseAddr(b.Name)
		return x.Compare(y)
	})
	return out
}

func (n *namer) leaseRows() []NameRow {
	out := []NameRow{}
	table := names.NewTable(n.leaseNames)
	clash := map[netip.Addr]bool{}
	for _, h := range table.Clashes(n.leaseNames) {
		clash[h.Address] = true
	}
	home := compile.Find(n.book.Inside, n.Domain)
	for _, h := range n.leaseNames {
		whole := zone.Absolute(h.Name, n.Domain)
		r := NameRow{Key: h.Address.String(), Name: h.Name, Whole: whole, Type: "A", Inside: h.Address.String(),
			From: "lease", Until: h.Expires.UTC().Format(time.RFC3339), Ref: kindSeen + ":" + h.Address.String()}
		l := n.leases[h.Address]
		r.Since = l.Since.UTC().Format(time.RFC3339)
		at := slices.IndexFunc(n.Reservations, func(v *site.Reservation) bool { return v.Address == h.Address })
		if at >= 0 {
			r.From, r.NameField = "lease of a reservation", "name"
			r.Ref = site.Ref{Kind: site.KindReservation, ID: n.Reservations[at].ID}.String()
		} else {
			r.NameField = "name"
			r.Makes = map[string]string{"address": h.Address.String(), "mac": l.MAC.String()}
			if v, in := n.NetworkOf(h.Address); in {
				r.Makes["network"] = v.ID
			}
		}
		if home != nil {
			if _, written := home.EntryOf(whole); written {
				r.Hidden, r.From = true, "lease; what is written counts"
			}
		}
		if clash[h.Address] {
			r.Hidden, r.From = true, "lease; an older one has the name"
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b NameRow) int { return cmp.Compare(a.Name, b.Name) })
	return out
}
