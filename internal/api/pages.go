package api

import (
	"lithos/core/site"
	"lithos/internal/draft"
	"lithos/internal/sites"
	"lithos/internal/view"
)

// Drafted is a site, as it is or as an order proposes it.
type Drafted struct {
	SiteInput
	Order int64 `query:"order" doc:"work order whose draft is shown; 0 for the site as it is"`
}

// Looking is what of a site is on the screen.
type Looking struct {
	Drafted
	Network string `query:"network" maxLength:"100" doc:"id of the selected network; the first when empty or unknown"`
	Select  string `query:"select" maxLength:"200" doc:"kind:id of the selected part"`
	From    int    `query:"from" minimum:"0" doc:"offset of the first address on the ruler, for large networks"`
	Have    string `query:"have" maxLength:"40" doc:"stamp of the network that the browser has, to be told only what changed in it"`
}

func (l *Looking) look() view.Look {
	return view.Look{Order: l.Order, Network: l.Network, Select: l.Select, From: l.From, Have: l.Have}
}

// targetAnswer is what a finding is about.
type targetAnswer struct {
	There   bool   `json:"there"` // the finding stands
	Network string `json:"network"`
	Select  string `json:"select"`
}

// levelView is a standard or a customer as it is kept, and what it sets in words.
type levelView struct {
	sites.Level
	Words view.StandardView `json:"words"`
}

// drawn answers with what draw makes of a page.
func drawn[T any](s *server, _ *view.Page, err error, draw func() T) (*body[T], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[T]{draw()}, nil
}

// changed is what an edit changed of what a browser shows. What it made is looked at
// from then on.
func (s *server) changed(out *draft.Edited, look view.Look) *view.Changed {
	made := site.ParseRef(out.Made)
	if made.Kind == site.KindNetwork {
		look.Network = made.ID
	}
	if out.Made != "" && made.Kind != site.KindOption {
		look.Select = out.Made
	}
	v := view.Of(out.After.Scene, out.After, out.After.Order.BaseRevision, out.Beside).After(out.Before, look, s.shown)
	v.Made = out.Made
	return v
}
