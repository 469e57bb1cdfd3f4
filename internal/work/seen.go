package work

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/dhcp"
	"lithos/core/links"
	"lithos/core/seen"
	"lithos/core/site"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// heardWithin is how long after its last answer a neighbour still counts as there.
const heardWithin = 10 * time.Minute

// sightings is what was seen at a site, by address. A lease and the neighbours
// that answer at its address with the same MAC are one.
func (s *Service) sightings(ctx context.Context, doc *site.Site) ([]seen.Sighting, error) {
	rows, err := s.store.SightingsOfSite(ctx, doc.ID)
	return sightingsOf(doc, rows), err
}

func sightingsOf(doc *site.Site, rows []gen.Sighting) []seen.Sighting {
	ports := map[address.MAC]string{}
	for _, r := range rows {
		if d, ok := doc.Device(r.DeviceID); ok && r.Source == station && len(r.Mac) == 6 {
			ports[address.MAC(r.Mac)] = r.Port + " of " + d.Name
		}
	}
	now := time.Now()
	var out []seen.Sighting
	at := map[seenKey]int{}
	for _, r := range rows {
		if r.Source == station || len(r.Mac) != 6 {
			continue
		}
		v := sighting(doc, r, now)
		v.Port = cmp.Or(ports[v.MAC], v.Port)
		key := seenKey{v.Address, v.MAC}
		if i, dup := at[key]; dup {
			out[i] = merge(out[i], v)
			continue
		}
		at[key] = len(out)
		out = append(out, v)
	}
	return out
}

type seenKey struct {
	at  netip.Addr
	mac address.MAC
}

func sighting(doc *site.Site, r gen.Sighting, now time.Time) seen.Sighting {
	v := seen.Sighting{
		Address: r.Address, MAC: address.MAC(r.Mac), Name: r.Name, Source: r.Source, First: r.First, Last: r.Last, Live: now.Sub(r.Last) < heardWithin,
	}
	if d, ok := doc.Device(r.DeviceID); ok {
		v.Device = d.Name
		if r.Port != "" {
			v.Port = r.Port + " of " + d.Name
		}
	}
	if r.Source == seen.Lease && r.Expires != nil {
		v.Expires = *r.Expires
		v.Live = r.State == string(dhcp.Bound) && r.Expires.After(now)
	}
	return v
}

// merge makes one sighting of a lease and the neighbour that holds it.
func merge(a, b seen.Sighting) seen.Sighting {
	if b.Source == seen.Lease {
		a, b = b, a
	}
	a.Name, a.Port, a.Live = cmp.Or(a.Name, b.Name), cmp.Or(a.Port, b.Port), a.Live || b.Live
	if b.First.Before(a.First) {
		a.First = b.First
	}
	if b.Last.After(a.Last) {
		a.Last = b.Last
	}
	return a
}

// surroundings is what rules need beside the document of a site.
func (s *Service) surroundings(ctx context.Context, doc *site.Site) (check.Surroundings, error) {
	b, err := s.store.Beside(ctx, doc.ID, doc.Customer.Name)
	return surroundings(doc, b), err
}

func surroundings(doc *site.Site, b store.Beside) check.Surroundings {
	with := check.Surroundings{Now: time.Now(), Seen: sightingsOf(doc, b.Seen)}
	if zone, err := time.LoadLocation(doc.TimeZone); err == nil {
		with.Now = with.Now.In(zone)
	}
	last := ""
	for _, r := range b.Neighbors {
		if r.SiteID == doc.ID {
			continue
		}
		if r.SiteID != last {
			with.Neighbors, last = append(with.Neighbors, check.Neighbor{Name: r.Site}), r.SiteID
		}
		i := len(with.Neighbors) - 1
		with.Neighbors[i].Networks = append(with.Neighbors[i].Networks, site.Network{ID: site.ParseRef(r.Part).ID, Name: r.Name, Prefix: r.Prefix})
	}
	return with
}

// around is the findings of a document with those of its surroundings.
func around(doc *site.Site, findings []check.Finding, with check.Surroundings) []check.Finding {
	out := append(slices.Clone(findings), check.Around(doc, with)...)
	check.Sort(out)
	return out
}

// SeenView is everything seen at a site.
type SeenView struct {
	Seen []SeenRow `json:"seen"`
}

// SeenRow is one line of what was seen.
type SeenRow struct {
	seen.One
	NetworkName string `json:"networkName"`
	Randomised  bool   `json:"randomised"`
	KnownRef    string `json:"knownRef,omitempty"` // the part that names or ignores it
}

// Seen lists what was seen at a site, with what to make of it.
func (s *Service) Seen(ctx context.Context, code string, order int64) (*SeenView, error) {
	doc, err := s.document(ctx, code, order)
	if err != nil {
		return nil, err
	}
	all, err := s.sightings(ctx, doc)
	if err != nil {
		return nil, err
	}
	return &SeenView{seenRows(doc, all)}, nil
}

func seenRows(doc *site.Site, all []seen.Sighting) []SeenRow {
	out := []SeenRow{}
	for _, o := range seen.Look(doc, all) {
		row := SeenRow{One: o, Randomised: seen.Randomised(o.MAC)}
		if n, ok := doc.Network(o.Network); ok {
			row.NetworkName = n.Name
		}
		if k, ok := doc.KnownClient(o.MAC); ok {
			row.KnownRef = site.KindKnownClient + ":" + k.ID
		}
		out = append(out, row)
	}
	return out
}

// Links draws how a site's devices are joined, with the path of a network lit.
func (s *Service) Links(ctx context.Context, code string, order int64, network string) (*links.Drawing, error) {
	doc, err := s.document(ctx, code, order)
	if err != nil {
		return nil, err
	}
	n, ok := doc.Network(network)
	if !ok {
		n = nil
	}
	d := links.Draw(doc, n)
	return &d, nil
}
