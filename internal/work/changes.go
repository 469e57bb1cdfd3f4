package work

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/order"
)

// ChangeGroup is what a draft changes in one place.
type ChangeGroup struct {
	Kind  string       `json:"kind" enum:"network,device,site"`
	Name  string       `json:"name"`
	Items []OneChanged `json:"items"`
}

// OneChanged is one part that a draft changes, as the site file has it before and after.
type OneChanged struct {
	Says   string          `json:"says"`
	Before json.RawMessage `json:"before,omitempty" doc:"absent for what is added"`
	After  json.RawMessage `json:"after,omitempty" doc:"absent for what is removed"`
}

// Changes is what a draft makes different, by network, then by device, then the rest: all its edits taken together.
func (s *Service) Changes(ctx context.Context, id int64) ([]ChangeGroup, error) {
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	was, now := d.Base.Site, d.Doc()
	out := []ChangeGroup{}
	at := map[string]int{}
	for _, e := range edit.Between(was, now) {
		kind, name := placeOf(was, now, e)
		key := kind + name
		if _, has := at[key]; !has {
			at[key] = len(out)
			out = append(out, ChangeGroup{Kind: kind, Name: name, Items: []OneChanged{}})
		}
		g := &out[at[key]]
		doc := now
		if e.Op == edit.Remove {
			doc = was
		}
		g.Items = append(g.Items, OneChanged{edit.Describe(doc, e, was, now), edit.PartOf(was, e), edit.PartOf(now, e)})
	}
	rank := map[string]int{"network": 0, "device": 1, "site": 2}
	slices.SortStableFunc(out, func(a, b ChangeGroup) int { return rank[a.Kind] - rank[b.Kind] })
	return out, nil
}

// placeOf is the network or the device that an edit is about, or the site.
func placeOf(was, now *site.Site, e edit.Edit) (kind, name string) {
	for _, ref := range []site.Ref{e.Part, e.In} {
		for _, doc := range []*site.Site{now, was} {
			id := ref.ID
			if ref.Kind != site.KindNetwork {
				id = site.NetworkOfPart(doc, ref)
			}
			if n, ok := doc.Network(id); ok && ref.Kind != site.KindInterface && ref.Kind != site.KindDevice {
				return "network", n.Name
			}
			if d, ok := doc.Device(ref.ID); ok && ref.Kind == site.KindDevice {
				return "device", d.Name
			}
			if d, _, ok := doc.Interface(ref.ID); ok && ref.Kind == site.KindInterface {
				return "device", d.Name
			}
		}
	}
	return "site", now.Name
}

// OtherOrder is another open order of a site.
type OtherOrder struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Title string `json:"title"`
	By    string `json:"by"`
	// Both are the parts that both touch, in words.
	Both []string `json:"both"`
}

// others lists the other open orders of a draft's site, those that touch the same parts first.
func (s *Service) others(ctx context.Context, d *order.Draft) ([]OtherOrder, error) {
	rows, err := s.Store.OpenOrdersOfSite(ctx, d.Order.SiteID)
	if err != nil {
		return nil, err
	}
	mine := touched(d)
	out := []OtherOrder{}
	for _, r := range rows {
		if r.ID == d.Order.ID {
			continue
		}
		other, err := s.Drafts.Draft(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		o := OtherOrder{ID: r.ID, Name: order.Name(r.ID), Title: r.Title, By: r.Opener, Both: []string{}}
		for key, says := range touched(other) {
			if mine[key] != "" {
				o.Both = append(o.Both, says)
			}
		}
		slices.Sort(o.Both)
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b OtherOrder) int { return min(len(b.Both), 1) - min(len(a.Both), 1) })
	return out, nil
}

// touched is the parts that a draft's edits are about, in words, by what they are.
func touched(d *order.Draft) map[string]string {
	out := map[string]string{}
	for _, e := range order.Live(d.Steps) {
		ref := e.Part
		key := ref.String()
		if ref.Kind == site.KindOption {
			key, ref = e.In.String()+" "+key, e.In
		}
		doc := d.Doc()
		name, found := site.NameOf(doc, ref)
		if !found {
			name, _ = site.NameOf(d.Base.Site, ref)
		}
		k, _ := site.KindNamed(ref.Kind)
		says := strings.TrimSpace(k.Noun + " " + name)
		if e.Part.Kind == site.KindOption {
			says = fmt.Sprintf("option %s of %s", e.Part.ID, says)
		}
		out[key] = says
	}
	return out
}
