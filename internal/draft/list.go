package draft

import (
	"context"
	"errors"
	"time"

	"lithos/internal/order"
	"lithos/internal/store"
)

// ListedOrder is one work order in the list of all.
type ListedOrder struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	Title    string    `json:"title"`
	Ticket   string    `json:"ticket"`
	Site     string    `json:"site"`
	Code     string    `json:"code"`
	State    string    `json:"state"`
	Stage    string    `json:"stage" enum:"drafted,rehearsed,waiting,pushing,landed,returned,dropped"`
	Steps    int       `json:"steps"`
	By       string    `json:"by"`
	OpenedAt time.Time `json:"openedAt"`
}

// Orders lists the work orders, open ones first, then the newest.
func (s *Service) Orders(ctx context.Context) ([]ListedOrder, error) {
	rows, err := s.store.ListOrders(ctx)
	out := []ListedOrder{}
	for _, r := range rows {
		out = append(out, ListedOrder{r.ID, order.Name(r.ID), r.Title, r.Ticket, r.Site, r.Code, r.State, r.Stage,
			int(r.Steps),
			r.Opener, r.OpenedAt})
	}
	return out, err
}

// LastWorkedOn is the open work order that a technician opened or edited last, 0 for
// none: it is picked up at the next sign-in, on any machine.
func (s *Service) LastWorkedOn(ctx context.Context, technician int64) (int64, error) {
	id, err := store.Found(s.store.LastWorkedOn(ctx, technician))
	if errors.Is(err, store.ErrNotFound) {
		return 0, nil
	}
	return id, err
}
