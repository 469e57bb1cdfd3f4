package replicate

import (
	"slices"
	"strconv"

	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

// Hidden is an option that was set at a level of a site, and of which no client is told anything else: a nearer level
// sets it, too.
type Hidden struct {
	Code  uint8
	Name  string // of the option, in a sentence
	Value string
	In    site.Ref
	By    []option.Source // the nearer levels, in the order of the site's networks
}

// HiddenIn are the options that edits set at a site, and that nearer levels hide from every client. was is the site
// before them, and now with them.
func HiddenIn(was, now *site.Site, edits []edit.Edit) []Hidden {
	var out []Hidden
	before, after := clientOptions(was), clientOptions(now)
	for _, e := range edits {
		code, err := strconv.ParseUint(e.Part.ID, 10, 8)
		if e.Part.Kind != site.KindOption || e.Op == edit.Remove || err != nil {
			continue
		}
		h := Hidden{Code: uint8(code), In: e.In, Value: valueAt(now, e.In, uint8(code))}
		changes := false
		for client, is := range after {
			got, _ := compile.Value(is, h.Code)
			had, _ := compile.Value(before[client], h.Code)
			changes = changes || got.Value != had.Value
		}
		if changes {
			continue
		}
		for i := range now.Networks {
			for _, c := range clientsOf(now, &now.Networks[i]) {
				got, has := compile.Value(after[c], h.Code)
				at := site.Ref{Kind: got.From.Kind, ID: got.From.ID}
				if has && at != e.In && got.Value != h.Value && !slices.Contains(h.By, got.From) {
					h.By = append(h.By, got.From)
				}
			}
		}
		if d, known := now.Own().Lookup(h.Code); known {
			h.Name = d.InSentence()
		} else {
			h.Name = "option " + e.Part.ID
		}
		if len(h.By) > 0 {
			out = append(out, h)
		}
	}
	return out
}

// client is whom options are worked out for: of a network, and of one of its pools.
type client struct{ network, pool string }

func clientsOf(s *site.Site, n *site.Network) []client {
	var out []client
	for _, p := range s.Pools {
		if p.Network == n.ID {
			out = append(out, client{n.ID, p.ID})
		}
	}
	if len(out) == 0 {
		out = append(out, client{network: n.ID})
	}
	return out
}

// clientOptions is what clients are told, for each pool of each network.
func clientOptions(s *site.Site) map[client][]option.Effective {
	common := compile.Common(s)
	out := map[client][]option.Effective{}
	for i := range s.Networks {
		n := &s.Networks[i]
		for _, c := range clientsOf(s, n) {
			p, _ := s.Pool(c.pool)
			out[c] = common.Effective(compile.For{Network: n, Pool: p})
		}
	}
	return out
}

// valueAt is the value of an option that a level sets.
func valueAt(s *site.Site, level site.Ref, code uint8) string {
	options, _ := site.OptionsOf(s, level)
	for _, o := range options {
		if o.Code == code {
			return o.Value
		}
	}
	return ""
}
