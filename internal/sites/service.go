// Package sites is all sites at once: what is wrong where, looking for something over
// all of them, the history of each, and site files that come and go.
package sites

import (
	"context"
	"fmt"
	"strings"

	"lithos/core/check"
	"lithos/internal/order"
	"lithos/internal/store"
)

// Sites finds the scenes of sites.
type Sites interface {
	Head(ctx context.Context, siteID string, revision int32) (*check.Scene, error)
	SceneOf(ctx context.Context, code string, order int64) (*check.Scene, *order.Draft, int32, error)
}

// Service is the use cases of all sites. It is safe for concurrent use, and any number
// of processes may run one on the same database.
type Service struct {
	store *store.Store
	sites Sites
}

// New makes the use cases on a migrated database.
func New(s *store.Store, sites Sites) *Service { return &Service{store: s, sites: sites} }

func joined[T fmt.Stringer](list []T) string {
	var out []string
	for _, v := range list {
		out = append(out, v.String())
	}
	return strings.Join(out, ", ")
}
