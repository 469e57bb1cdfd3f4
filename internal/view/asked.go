package view

import (
	"errors"
	"slices"
	"time"

	"lithos/core/names"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/actor"
	"lithos/internal/order"
)

// AskedView is the answer to a question, with what would make one where there is none.
type AskedView struct {
	names.Answer
	Version int32 `json:"version"`
	// WhyNot is the finding that says why there is no answer.
	WhyNot *Finding `json:"whyNot,omitempty"`
	// Form makes a name that is not there.
	Form *Opens `json:"form,omitempty"`
}

// Ask asks a question of the site as the page has it.
func (p *Page) Ask(q names.Question) (*AskedView, error) {
	leases := rehearse.LeasesOf(p.Site, p.beside.Seen, time.Now())
	w := names.NewWorld(time.Now(), p.Site, p.Book(), leases)
	w.Read(p.readZones())
	w.Beside(order.Programs(p.beside.Access))
	a, err := w.Ask(q)
	var fields site.FieldErrors
	if errors.As(err, &fields) {
		return nil, actor.RefuseFields("Nothing was asked", fields)
	}
	if err != nil {
		return nil, err
	}
	out := &AskedView{Answer: a, Version: p.Version()}
	if a.Outcome != names.Found {
		p.whyNot(out, q)
	}
	return out, nil
}

// readZones is what the servers of the outside zones held when they were read last, by the name of the zone.
func (p *Page) readZones() map[string]names.ReadZone {
	out := map[string]names.ReadZone{}
	for _, z := range p.Site.Zones {
		read := p.ZoneReading(z.ID)
		if z.Side == site.Outside && read != nil && read.ReadAt != nil {
			out[z.Name] = names.ReadZone{At: *read.ReadAt, Serial: read.Serial, Records: read.Records,
				Whole: p.draft == nil}
		}
	}
	return out
}

// whyNot finds the first step that would make an answer.
func (p *Page) whyNot(out *AskedView, q names.Question) {
	for _, s := range out.Steps {
		if s.Rule == "" {
			continue
		}
		for _, f := range p.Judgement.Findings {
			if f.Rule == s.Rule && (f.Network == "" || f.Network == out.Network) {
				found := p.finding(f)
				out.WhyNot = &found
				return
			}
		}
	}
	side := site.Inside
	if q.Who == names.Internet {
		side = site.Outside
	}
	if out.Outcome != names.NoName && out.Outcome != names.Nothing {
		return
	}
	missing := out.Name
	if n := len(out.Values); n > 0 {
		missing = out.Values[n-1] // what its aliases lead to is not there
	}
	z, ok := p.ZoneOf(missing, side)
	if !ok {
		return
	}
	owner, _ := zone.Relative(missing, z.Name)
	typ := out.Type
	if !slices.Contains(zone.Types(), typ) {
		return
	}
	out.Form = &Opens{Kind: site.KindRecord, In: site.Ref{Kind: site.KindZone, ID: z.ID}.String(),
		Title: "Add " + missing, Values: map[string]string{"owner": owner, "type": typ}}
}
