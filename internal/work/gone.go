package work

import (
	"context"
	"fmt"

	"lithos/core/ownership"
	"lithos/core/site"
	"lithos/internal/order"
)

// Gone is what became of a part that a link names and the site does not have.
type Gone struct {
	Gone    bool   `json:"gone" doc:"the site, or its draft, does not have the part"`
	Says    string `json:"says,omitempty" doc:"what it was, and since when it is gone"`
	Network string `json:"network,omitempty" doc:"id of the nearest network that is there; none where the site has no such"`
	Select  string `json:"select,omitempty" doc:"kind:id of the part that has its address now"`
	Nearest string `json:"nearest,omitempty" doc:"why that is the nearest, in words"`
}

// Gone says of a part, as kind:id, whether a site or a draft of it has it, and what became of it where not.
func (s *Service) Gone(ctx context.Context, code string, id int64, part string) (*Gone, error) {
	sc, d, _, err := s.Drafts.SceneOf(ctx, code, id)
	if err != nil {
		return nil, err
	}
	ref := site.ParseRef(part)
	if _, there := site.NameOf(sc.Site, ref); there {
		return &Gone{}, nil
	}
	out := &Gone{Gone: true}
	was := (*site.Site)(nil)
	if d != nil {
		if name, had := site.NameOf(d.Base.Site, ref); had {
			was, out.Says = d.Base.Site, fmt.Sprintf("%s is taken away in %s.", name, order.Name(id))
		}
	}
	if was == nil {
		last, err := s.Store.LastWith(ctx, sc.Site.ID, ref.ID)
		if err != nil {
			return nil, err
		}
		if last == 0 {
			out.Says = "What the link is of was never at this site."
			return out, nil
		}
		if was, err = s.Store.Revision(ctx, sc.Site.ID, last); err != nil {
			return nil, err
		}
		name, _ := site.NameOf(was, ref)
		out.Says = fmt.Sprintf("%s is not at this site any more, since revision %d.", name, last+1)
	}
	network, holds, why := ownership.Nearest(was, sc.Site, ref)
	out.Network, out.Nearest = network, why
	if holds.ID != "" {
		out.Select = holds.String()
	}
	return out, nil
}
