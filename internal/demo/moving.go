package demo

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"lithos/core/move"
	"lithos/core/site"
	"lithos/internal/accounts"
	"lithos/internal/push"
	"lithos/internal/work"
)

// Moving has a move of networks under way at Kelder Bridge, unless one was ever begun: the leases are short, and the
// first of those to be visited has been.
func Moving(ctx context.Context, w *work.Service) error {
	there, err := w.Moves.Moves(ctx)
	if err != nil || len(there) > 0 {
		return err
	}
	by, _, err := w.Accounts.SignIn(ctx, accounts.Attempt{Name: Account, Password: Password, Source: by})
	if err != nil {
		return err
	}
	night := time.Now().AddDate(0, 0, 2)
	id, err := w.Moves.BeginMove(ctx, by, "kelder-bridge", move.Request{Title: "Handsets to VLAN 131",
		Ticket: "LV-2207",
		Night:  time.Date(night.Year(), night.Month(), night.Day(), 23, 30, 0, 0, night.Location()),
		Shifts: []move.Shift{{Network: "net-handsets", Prefix: netip.MustParsePrefix("10.84.22.0/24"), VLAN: 131,
			Grow: true}}})
	if err != nil {
		return err
	}
	m, err := w.Moves.Move(ctx, id)
	if err != nil {
		return err
	}
	first := m.Phases[0].Order
	zone, err := time.LoadLocation(m.Zone)
	if err != nil {
		return err
	}
	opened := time.Now().In(zone).Add(-push.LateAtMost / 2).Format(site.Clock)
	if err := w.Pushes.SetWindow(ctx, by, first, push.WindowEntry{Note: m.Phases[0].Says,
		NotBefore: opened}); err != nil {
		return err
	}
	d, err := w.Drafts.Draft(ctx, first)
	if err != nil {
		return err
	}
	if _, err := w.Pushes.Rehearse(ctx, by, first, d.Order.Version); err != nil {
		return fmt.Errorf("rehearse the first phase of the move: %w", err)
	}
	if err := w.Pushes.Wait(ctx, by, first, d.Order.Version, true); err != nil {
		return fmt.Errorf("leave the first phase of the move to start: %w", err)
	}
	return w.Moves.TickVisit(ctx, by, id, 1, true, time.Now())
}
