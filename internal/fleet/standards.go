package fleet

import (
	"context"
	"maps"
	"reflect"
	"slices"

	"lithos/core/site"
	"lithos/internal/store/gen"
)

// Follow is an addressing standard with the sites that follow it.
type Follow struct {
	Standard site.Standard
	Sites    []Place
	Differs  []string // names of sites whose copy is another than the first one's
}

// Place is a site by its code and name.
type Place struct {
	Code string `json:"code"`
	Name string `json:"name"`
}

// Standards lists the standards the sites carry.
func (s *Service) Standards(ctx context.Context) ([]Follow, error) {
	rows, err := s.store.ListSites(ctx, gen.ListSitesParams{Rules: rules})
	if err != nil {
		return nil, err
	}
	byID := map[string]*Follow{}
	for _, r := range rows {
		head, err := s.sites.Head(ctx, r.ID, r.Head)
		if err != nil {
			return nil, err
		}
		std := head.Site.Standard
		if std.ID == "" {
			continue
		}
		first := byID[std.ID]
		if first == nil {
			first = &Follow{Standard: std, Differs: []string{}}
			byID[std.ID] = first
		} else if !reflect.DeepEqual(first.Standard, std) {
			first.Differs = append(first.Differs, r.Name)
		}
		first.Sites = append(first.Sites, Place{r.Code, r.Name})
	}
	out := []Follow{}
	for _, id := range slices.Sorted(maps.Keys(byID)) {
		out = append(out, *byID[id])
	}
	return out, nil
}
