package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"lithos/core/site"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// FollowedRows is what is known of the dynamic names of all sites, as rows.
type FollowedRows struct {
	sites   []gen.FollowedSitesRow
	lines   []gen.LineAddress
	sent    []gen.ToldAddress
	read    []gen.FollowingRead
	zones   []gen.FollowedZonesRow
	reached []gen.ReachedDevicesRow
}

// Followed reads what is known of the dynamic names of all sites.
func (s *Store) Followed(ctx context.Context) (rows FollowedRows, err error) {
	if rows.sites, err = s.FollowedSites(ctx); err != nil {
		return rows, err
	}
	ids := make([]string, len(rows.sites))
	for i, r := range rows.sites {
		ids[i] = r.ID
	}
	var errs [5]error
	rows.lines, errs[0] = s.FollowedLines(ctx, ids)
	rows.sent, errs[1] = s.FollowedTold(ctx, ids)
	rows.zones, errs[2] = s.FollowedZones(ctx, ids)
	rows.read, errs[4] = s.FollowingReads(ctx, ids)
	rows.reached, errs[3] = s.ReachedDevices(ctx, ids)
	return rows, errors.Join(errs[:]...)
}

// Sites are the sites, each with as much of its document as its dynamic names are about, and what is known beside.
func (f FollowedRows) Sites(documents bool) ([]order.Followed, error) {
	out := make([]order.Followed, len(f.sites))
	at := make(map[string]*order.Beside, len(f.sites))
	for i, r := range f.sites {
		doc := &site.Site{}
		if err := json.Unmarshal(r.Doc, doc); err != nil {
			return nil, fmt.Errorf("the dynamic names of %s: %w", r.Code, err)
		}
		doc.ID, doc.Code, doc.Name, doc.Customer.Name = r.ID, r.Code, r.Name, r.Customer
		out[i] = order.Followed{Site: doc, Beside: order.Beside{Documents: documents}}
		at[r.ID] = &out[i].Beside
	}
	for _, group := range grouped(f.lines, func(r gen.LineAddress) string { return r.SiteID }) {
		at[group[0].SiteID].Lines = linesOf(group)
	}
	for _, group := range grouped(f.sent, func(r gen.ToldAddress) string { return r.SiteID }) {
		at[group[0].SiteID].Sent = sentOf(group)
	}
	for _, group := range grouped(f.read, func(r gen.FollowingRead) string { return r.SiteID }) {
		at[group[0].SiteID].Read = readOf(group)
	}
	for _, r := range f.zones {
		b := at[r.SiteID]
		b.Zones = append(b.Zones, zonesOf([]gen.ZoneReading{{SiteID: r.SiteID, ZoneID: r.ZoneID, ReadAt: r.ReadAt,
			Problem: r.Problem, Serial: r.Serial, Records: r.Records, Keys: r.Keys, Sets: r.Sets,
			KeysProblem: r.KeysProblem, KeysReadAt: r.KeysReadAt}})...)
	}
	for _, r := range f.reached {
		b := at[r.SiteID]
		b.Access = append(b.Access, order.Access{SiteID: r.SiteID, DeviceID: r.DeviceID})
	}
	return out, nil
}

// grouped is rows in runs of the same key.
func grouped[T any](rows []T, key func(T) string) [][]T {
	var out [][]T
	for from := 0; from < len(rows); {
		to := from + 1
		for to < len(rows) && key(rows[to]) == key(rows[from]) {
			to++
		}
		out = append(out, rows[from:to])
		from = to
	}
	return out
}
