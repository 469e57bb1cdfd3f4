package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/dhcp"
	"lithos/core/drift"
	"lithos/core/observed"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// Beside reads what is known of a site beside its document, in one round trip.
func (s *Store) Beside(ctx context.Context, siteID, customer string) (order.Beside, error) {
	var b order.Beside
	b.Documents = s.Documents
	err := s.Snapshot(ctx, func(batch *pgx.Batch) {
		queue(batch, gen.AccessOfSite, func(rows []gen.AccessOfSiteRow) { b.Access = accessOf(rows) }, siteID)
		queue(batch, gen.MeantOfSite, func(rows []gen.MeantOfSiteRow) {
			for _, r := range rows {
				b.Meant = append(b.Meant, order.Meant{Finding: r.Finding, Facts: r.Facts, Reason: r.Reason,
					Until: r.Until,
					By:    r.By, At: r.SaidAt})
			}
		}, siteID)
		queue(batch, gen.DevicesElsewhere, func(rows []gen.DevicesElsewhereRow) {
			b.Elsewhere = map[string][]string{}
			for _, r := range rows {
				b.Elsewhere[r.DeviceID] = append(b.Elsewhere[r.DeviceID], r.Name+" of "+r.Site)
			}
		}, siteID)
		queue(batch, gen.OpenOrdersOfSite, func(rows []gen.OpenOrdersOfSiteRow) {
			for _, r := range rows {
				b.Orders = append(b.Orders, order.Opened{ID: r.ID, Name: order.Name(r.ID), Title: r.Title,
					By: r.Opener})
			}
		}, siteID)
		queue(batch, gen.SightingsOfSite, func(rows []gen.Sighting) { b.Seen = heard(rows) }, siteID)
		queue(batch, gen.ZonesOfSite, func(rows []gen.ZoneReading) { b.Zones = zonesOf(rows) }, siteID)
		queue(batch, gen.LinesOfSite, func(rows []gen.LineAddress) { b.Lines = linesOf(rows) }, siteID)
		queue(batch, gen.ToldOfSite, func(rows []gen.ToldAddress) { b.Sent = sentOf(rows) }, siteID)
		queue(batch, gen.FollowingReadsOfSite, func(rows []gen.FollowingRead) { b.Read = readOf(rows) }, siteID)
		queue(batch, gen.LevelsOfSite, func(rows []gen.KeptLevel) {
			for _, r := range rows { // Lithos wrote them itself
				switch r.Kind {
				case LevelStandard:
					b.Shared.Standard = new(site.Standard)
					_ = json.Unmarshal(r.Doc, b.Shared.Standard)
				case LevelCustomer:
					b.Shared.Customer = new(site.Level)
					_ = json.Unmarshal(r.Doc, b.Shared.Customer)
				}
			}
		}, siteID)
		queue(batch, gen.ServersOfSite, func(rows []gen.StrayServer) {
			for _, r := range rows {
				b.Servers = append(b.Servers, check.Stray{Address: r.Address, MAC: address.MAC(r.Mac),
					Device:    r.DeviceID,
					Interface: r.Interface, First: r.FirstAt, Last: r.LastAt})
			}
		}, siteID)
		queue(batch, gen.MovesOfCustomer, func(rows []gen.MovesOfCustomerRow) { b.Moves = movesOf(rows) }, customer)
		queue(batch, gen.NeighborPrefixes, func(rows []gen.NeighborPrefixesRow) { b.Neighbors = neighbors(rows) },
			customer, siteID)
		queue(batch, gen.NeighborNames, func(rows []gen.NeighborNamesRow) { b.Neighbors = named(b.Neighbors, rows) },
			customer, siteID)
	})
	if err != nil {
		return b, fmt.Errorf("read beside site %s: %w", siteID, err)
	}
	return b, nil
}

// queue adds a query whose rows are given to take.
func queue[T any](batch *pgx.Batch, query string, take func([]T), args ...any) {
	batch.Queue(query, args...).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[T])
		take(list)
		return err
	})
}

func movesOf(rows []gen.MovesOfCustomerRow) []check.Moving {
	var out []check.Moving
	for _, r := range rows {
		var m check.Moving
		_ = json.Unmarshal(r.Facts, &m) // Lithos wrote it itself
		m.ID, m.Site, m.Title, m.Swapped = r.ID, r.SiteID, r.Title, r.Swapped
		if r.State == "open" {
			m.Overdue = r.Overdue
		}
		out = append(out, m)
	}
	return out
}

func accessOf(rows []gen.AccessOfSiteRow) []order.Access {
	var out []order.Access
	for _, r := range rows {
		var programs []yang.Program
		_ = json.Unmarshal(r.Programs, &programs) // Lithos wrote it itself
		a := order.Access{
			SiteID: r.SiteID, DeviceID: r.DeviceID, URL: r.Url, Account: r.Account, Sealed: r.Secret,
			Fingerprint: r.Fingerprint, ReadAt: r.ReadAt, TriedAt: r.TriedAt, Problem: r.Problem,
			ProblemAt: r.ProblemAt,
			Programs:  programs,
			Drifted:   int(r.Drifted), DriftedAt: r.DriftedAt, Shared: r.Shared,
			Tag: r.Etag, JudgedOn: r.JudgedOn,
		}
		_ = json.Unmarshal(r.Cuts, &a.Cuts) // Lithos wrote it itself
		if r.Shared != "" {
			a.Account, a.Sealed = r.SharedAccount, r.SharedSecret
		}
		var held yang.Config
		if len(r.Held) > 0 && json.Unmarshal(r.Held, &held) == nil {
			held = held.Sorted()
			a.Running = &held
		}
		out = append(out, a)
	}
	return out
}

func zonesOf(rows []gen.ZoneReading) []order.ZoneReading {
	var out []order.ZoneReading
	for _, r := range rows {
		z := order.ZoneReading{ZoneID: r.ZoneID, ReadAt: r.ReadAt, Problem: r.Problem, Serial: uint32(r.Serial),
			KeysProblem: r.KeysProblem, KeysReadAt: r.KeysReadAt}
		_ = errors.Join(json.Unmarshal(r.Records, &z.Records), // Lithos wrote them itself
			json.Unmarshal(r.Keys, &z.Keys), json.Unmarshal(r.Sets, &z.Sets))
		out = append(out, z)
	}
	return out
}

func linesOf(rows []gen.LineAddress) []order.LineReading {
	var out []order.LineReading
	for _, r := range rows {
		out = append(out, order.LineReading{Interface: r.InterfaceID, Address: r.Address, First: r.First, Last: r.Last})
	}
	return out
}

func readOf(rows []gen.FollowingRead) []order.ReadAddress {
	var out []order.ReadAddress
	for _, r := range rows {
		out = append(out, order.ReadAddress{Following: r.FollowingID, Type: r.Type, Data: r.Data, First: r.First,
			Last: r.Last})
	}
	return out
}

func sentOf(rows []gen.ToldAddress) []order.SentAddress {
	var out []order.SentAddress
	for _, r := range rows {
		out = append(out, order.SentAddress{Following: r.FollowingID, Address: r.Address, At: r.At, Taken: r.Taken,
			Says: r.Says})
	}
	return out
}

// Zones is the outside zones of a site as they were last read.
func (s *Store) Zones(ctx context.Context, siteID string) ([]order.ZoneReading, error) {
	rows, err := s.ZonesOfSite(ctx, siteID)
	return zonesOf(rows), err
}

// Lines is the addresses that the uplinks of a site had.
func (s *Store) Lines(ctx context.Context, siteID string) ([]order.LineReading, error) {
	rows, err := s.LinesOfSite(ctx, siteID)
	return linesOf(rows), err
}

// PastLine notes an address that a line had over a time, and whether its name was told at its beginning.
func (s *Store) PastLine(
	ctx context.Context, siteID string, w site.Following, had netip.Addr, told bool, from, to time.Time,
) error {
	err := s.HadLine(ctx, gen.HadLineParams{SiteID: siteID, InterfaceID: w.Line(), Address: had, First: from, Last: to})
	if err != nil || !told {
		return err
	}
	return s.NoteSent(ctx, gen.NoteSentParams{SiteID: siteID, FollowingID: w.ID, Address: had, At: from, Taken: true,
		Says: "Taken"})
}

func heard(rows []gen.Sighting) []observed.Heard {
	var out []observed.Heard
	for _, r := range rows {
		if len(r.Mac) != len(address.MAC{}) {
			continue
		}
		h := observed.Heard{
			Device: r.DeviceID, Source: r.Source, Address: r.Address, MAC: address.MAC(r.Mac), ClientID: r.ClientID,
			Name: r.Name, Class: r.VendorClass, Pool: r.Pool, Port: r.Port,
			First: r.First, Last: r.Last, State: r.State, Bound: r.State == string(dhcp.Bound),
		}
		if r.Expires != nil {
			h.Expires = *r.Expires
		}
		out = append(out, h)
	}
	return out
}

func neighbors(rows []gen.NeighborPrefixesRow) []check.Neighbor {
	var out []check.Neighbor
	for _, r := range rows {
		if len(out) == 0 || out[len(out)-1].ID != r.SiteID {
			out = append(out, check.Neighbor{ID: r.SiteID, Name: r.Site})
		}
		last := &out[len(out)-1]
		last.Networks = append(last.Networks,
			site.Network{ID: site.ParseRef(r.Part).ID, Name: r.Name, Prefix: r.Prefix})
	}
	return out
}

// named adds what neighbors call their own to their networks.
func named(list []check.Neighbor, rows []gen.NeighborNamesRow) []check.Neighbor {
	for _, r := range rows {
		i := slices.IndexFunc(list, func(n check.Neighbor) bool { return n.ID == r.SiteID })
		if i < 0 {
			list, i = append(list, check.Neighbor{ID: r.SiteID, Name: r.Site}), len(list)
		}
		if r.Home {
			list[i].Domain = r.Name
		} else {
			list[i].Outside = append(list[i].Outside, r.Name)
		}
	}
	return list
}

// Access reads how the devices of a site are reached.
func (s *Store) Access(ctx context.Context, siteID string) ([]order.Access, error) {
	rows, err := s.AccessOfSite(ctx, siteID)
	return accessOf(rows), err
}

// KeepMeant keeps that a finding of a site is meant so; by is who said it.
func (s *Store) KeepMeant(ctx context.Context, siteID, title string, m order.Meant, by int64) error {
	return s.PutMeant(ctx, gen.PutMeantParams{SiteID: siteID, Finding: m.Finding, Facts: m.Facts, Title: title,
		Reason: m.Reason, Until: m.Until, SaidBy: by})
}

// ForgetMeant forgets that a finding of a site is meant so, and gives its title; ErrNotFound where nobody had said so.
func (s *Store) ForgetMeant(ctx context.Context, siteID, finding string) (title string, err error) {
	return Found(s.DropMeant(ctx, gen.DropMeantParams{SiteID: siteID, Finding: finding}))
}

// DropAccess forgets how a device is reached; n is 0 where nothing was known.
func (s *Store) DropAccess(ctx context.Context, siteID, device string) (n int64, err error) {
	n, err = s.ForgetAccess(ctx, gen.ForgetAccessParams{SiteID: siteID, DeviceID: device})
	return n, errors.Join(err, s.ForgetUnusedCredentials(ctx))
}

// Heard reads what the devices of a site told of leases and neighbours.
func (s *Store) Heard(ctx context.Context, siteID string) ([]observed.Heard, error) {
	rows, err := s.SightingsOfSite(ctx, siteID)
	return heard(rows), err
}

// Neighbors reads the networks and names of every site of a customer.
func (s *Store) Neighbors(ctx context.Context, customer string) ([]check.Neighbor, error) {
	rows, err := s.NeighborPrefixes(ctx, gen.NeighborPrefixesParams{Customer: customer})
	if err != nil {
		return nil, err
	}
	names, err := s.NeighborNames(ctx, gen.NeighborNamesParams{Customer: customer})
	return named(neighbors(rows), names), err
}

// Order reads a work order.
func (s *Store) Order(ctx context.Context, id int64) (order.Order, error) {
	r, err := Found(s.OrderByID(ctx, id))
	return order.Order{
		ID: r.ID, SiteID: r.SiteID, Code: r.Code, Title: r.Title, Ticket: r.Ticket, State: r.State, Opener: r.Opener,
		OpenedAt: r.OpenedAt, Closer: r.Closer,
		Version: r.Version, BaseRevision: r.BaseRevision, Head: r.Head, Rehearsed: r.Rehearsed, Lost: int(r.Lost),
		Note: r.Note, NotBefore: r.NotBefore, NotAfter: r.NotAfter, Waits: r.Waiter, Waited: r.Waited,
		Lead: orZero(r.Lead),
	}, err
}

func orZero(id *int64) int64 {
	if id == nil {
		return 0
	}
	return *id
}

// Site is the row of a site.
type Site struct {
	ID       string
	Code     string
	Name     string
	Customer string
	Head     int32 // newest revision
	Away     bool  // looked after no more
}

// Site finds a site by its code; one that is not there is refused.
func (s *Store) Site(ctx context.Context, code string) (Site, error) {
	row, err := Found(s.SiteByCode(ctx, code))
	if errors.Is(err, ErrNotFound) {
		return Site{}, actor.Refuse(actor.Missing, "There is no site %q.", code)
	}
	return Site{row.ID, row.Code, row.Name, row.Customer, row.Head, row.ArchivedAt != nil}, err
}

// Config is the configuration of a device that is kept under an id, the latest for 0. found is false where there is
// none.
func (s *Store) Config(ctx context.Context, siteID, device string, id int64) (raw []byte, found bool, err error) {
	row, err := Found(s.ConfigOfDevice(ctx, gen.ConfigOfDeviceParams{SiteID: siteID, DeviceID: device, ID: id}))
	if errors.Is(err, ErrNotFound) {
		return nil, false, nil
	}
	return row.Config, err == nil, err
}

// KeptConfig is a form of a device's configuration, with from when to when it was read.
type KeptConfig struct {
	ID          int64
	First, Last time.Time
	Octets      int32
}

// Configs lists the forms of a device's configuration that are kept, the newest first.
func (s *Store) Configs(ctx context.Context, siteID, device string) ([]KeptConfig, error) {
	rows, err := s.ConfigsOfDevice(ctx, gen.ConfigsOfDeviceParams{SiteID: siteID, DeviceID: device})
	var out []KeptConfig
	for _, r := range rows {
		out = append(out, KeptConfig{r.ID, r.FirstAt, r.LastAt, r.Octets})
	}
	return out, err
}

// RememberedColumns is what somebody said that the columns of tables with some headings hold; none where nobody has.
func (s *Store) RememberedColumns(ctx context.Context, headings string) ([]string, error) {
	rows, err := s.ColumnsOf(ctx, headings)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0], nil
}

// RememberColumns keeps what somebody said that the columns of tables with some headings hold.
func (s *Store) RememberColumns(ctx context.Context, by int64, headings string, columns []string) error {
	return s.KeepColumns(ctx, gen.KeepColumnsParams{Headings: headings, Columns: columns, SaidBy: by})
}

// KeptLevel is a standard or a customer as it is to be kept.
type KeptLevel struct {
	Kind, ID, Name string
	Version        int32 // the one that it takes the place of; 0 for none
	Doc            []byte
}

// KeepLevel keeps a level in place of a version of it. It is refused where somebody has changed it meanwhile.
func (s *Store) KeepLevel(ctx context.Context, by actor.Technician, l KeptLevel) error {
	return s.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error { return l.Keep(ctx, q, by) })
}

// Keep is Store.KeepLevel in a transaction of the caller's.
func (l KeptLevel) Keep(ctx context.Context, q *gen.Queries, by actor.Technician) error {
	if l.Version == 0 {
		if err := q.AddLevel(ctx, gen.AddLevelParams{Kind: l.Kind, ID: l.ID, Doc: l.Doc}); err != nil {
			return err
		}
	} else {
		n, err := q.ChangeLevel(ctx,
			gen.ChangeLevelParams{Doc: l.Doc, By: &by.ID, Kind: l.Kind, ID: l.ID, Version: l.Version})
		if err == nil && n == 0 {
			err = actor.Refuse(actor.Conflict,
				"Somebody has changed it meanwhile. Look at it again; what you typed is still here.")
		}
		if err != nil {
			return err
		}
	}
	return errors.Join(q.LookAgainAtLevel(ctx, gen.LookAgainAtLevelParams{Kind: l.Kind, ID: l.ID}),
		actor.Record(ctx, q, by, "level-changed", l.Kind+" "+l.ID, "Changed "+l.Name+" for all sites"),
		actor.Publish(ctx, q, actor.RoundsEvent))
}

// Holding is what a device holds, and what was made of it.
type Holding struct {
	Config  yang.Config
	Differs []drift.Difference
	Cuts    []check.Cut
	// Tag is what the device calls it, and JudgedOn the revision; an empty one has it read and judged again.
	Tag      string
	JudgedOn int32
}

// NoteHeld keeps what a device holds, how much of that is otherwise than it was given, by the differences, and which
// networks that cuts off. It says how many differences there were before, what Lithos did not put there apart.
func NoteHeld(
	ctx context.Context, q *gen.Queries, siteID, device string, h Holding,
) (was int, err error) {
	raw, err := json.Marshal(h.Config)
	if err != nil {
		return 0, err
	}
	off, err := json.Marshal(slices.Concat([]check.Cut{}, h.Cuts))
	if err != nil {
		return 0, err
	}
	if err := q.NoteConfig(ctx, gen.NoteConfigParams{SiteID: siteID, DeviceID: device, Config: raw}); err != nil {
		return 0, err
	}
	beside := 0
	for _, one := range h.Differs {
		if one.Beside {
			beside++
		}
	}
	before, err := q.NoteDrift(ctx, gen.NoteDriftParams{SiteID: siteID, DeviceID: device,
		Drifted: int32(len(h.Differs) - beside), Others: int32(beside), Cuts: off, Etag: h.Tag, JudgedOn: h.JudgedOn})
	return int(before), err
}
