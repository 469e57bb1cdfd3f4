package work

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/plan"
	"lithos/core/rehearse"
	"lithos/core/seen"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Rehearsal is the report of a rehearsal and the draft it was of.
type Rehearsal struct {
	Version int32           `json:"version"`
	By      string          `json:"by"`
	Report  rehearse.Report `json:"report"`
	Moving  ClientPage      `json:"moving"` // the first of those that are told something else
}

// ClientPage is some of the clients of a rehearsal.
type ClientPage struct {
	Clients []RehearsedClient `json:"clients"`
	From    int               `json:"from"`
	More    bool              `json:"more"` // there are others behind them
}

// RehearsedClient is one client of a rehearsal.
type RehearsedClient struct {
	rehearse.Client
	Seq    int32 `json:"seq"`
	Octets int32 `json:"octets"` // of its reply, 0 for none; the reply itself is asked for on its own
}

const (
	clientsAPage = 100
	// copiedAtOnce is how many clients of a rehearsal are given to the store at a time.
	copiedAtOnce = 500
)

// Rehearse computes what the draft will do to every known client and stores
// the report: only a rehearsed draft can be pushed. The clients go to the store as
// they are computed.
func (s *Service) Rehearse(ctx context.Context, by Technician, id int64, version int32) (*Rehearsal, error) {
	d, err := s.editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	leases, err := s.leases(ctx, d.Order.SiteID, d.Doc)
	if err != nil {
		return nil, err
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := q.ForgetRehearsalClients(ctx, id); err != nil {
			return err
		}
		out := clientWriter{ctx: ctx, q: q, order: id}
		report, err := rehearse.Run(time.Now(), d.Base, d.Doc, leases, out.put)
		if err == nil {
			err = out.flush()
		}
		if err != nil {
			return err
		}
		raw, err := json.Marshal(report)
		if err != nil {
			return err
		}
		if err := q.PutRehearsal(ctx, gen.PutRehearsalParams{OrderID: id, Version: version, Report: raw, MadeBy: by.ID}); err != nil {
			return err
		}
		return publish(ctx, q, orderEvent(id, 0))
	})
	if err != nil {
		return nil, err
	}
	return s.rehearsal(ctx, id)
}

// clientWriter gives the clients of a rehearsal to the store, some at a time.
type clientWriter struct {
	ctx   context.Context
	q     *gen.Queries
	order int64
	seq   int32
	rows  []gen.PutRehearsalClientsParams
}

func (w *clientWriter) put(c rehearse.Client) error {
	row := gen.PutRehearsalClientsParams{OrderID: w.order, Seq: w.seq, Moves: c.Moves, Network: c.Network, Name: c.Name, Reply: []byte{}}
	w.seq++
	if c.Reply != nil {
		reply, err := hex.DecodeString(c.Reply.Bytes)
		if err != nil {
			return err
		}
		row.Reply, row.Why, row.Accepts = reply, c.Reply.Why, int32(c.Reply.Accepts)
		c.Reply = nil
	}
	var err error
	if row.Client, err = json.Marshal(c); err != nil {
		return err
	}
	if w.rows = append(w.rows, row); len(w.rows) < copiedAtOnce {
		return w.ctx.Err()
	}
	return w.flush()
}

func (w *clientWriter) flush() error {
	_, err := w.q.PutRehearsalClients(w.ctx, w.rows)
	w.rows = w.rows[:0]
	return err
}

func (s *Service) rehearsal(ctx context.Context, id int64) (*Rehearsal, error) {
	row, err := store.Found(s.store.RehearsalOfOrder(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &Rehearsal{Version: row.Version, By: row.MadeBy}
	if err := json.Unmarshal(row.Report, &out.Report); err != nil {
		return nil, fmt.Errorf("rehearsal of order %d: %w", id, err)
	}
	moving, err := s.RehearsedClients(ctx, id, true, 0)
	if err != nil {
		return nil, err
	}
	out.Moving = *moving
	return out, nil
}

// RehearsedClients is a page of the clients of an order's rehearsal: of those that
// are told something else, or of those that keep what they have.
func (s *Service) RehearsedClients(ctx context.Context, id int64, moving bool, from int) (*ClientPage, error) {
	rows, err := s.store.RehearsalClients(ctx, gen.RehearsalClientsParams{OrderID: id, Moves: moving, Skip: int32(from), Most: clientsAPage + 1})
	if err != nil {
		return nil, err
	}
	out := &ClientPage{Clients: []RehearsedClient{}, From: from, More: len(rows) > clientsAPage}
	for _, r := range rows[:min(len(rows), clientsAPage)] {
		c := RehearsedClient{Seq: r.Seq, Octets: r.Size}
		if err := json.Unmarshal(r.Client, &c.Client); err != nil {
			return nil, fmt.Errorf("client %d of the rehearsal of order %d: %w", r.Seq, id, err)
		}
		out.Clients = append(out.Clients, c)
	}
	return out, nil
}

// RehearsedReply is the reply that a client of an order's rehearsal would get,
// decoded.
func (s *Service) RehearsedReply(ctx context.Context, id int64, seq int32) (*dhcp.Message, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	row, err := store.Found(s.store.RehearsalReply(ctx, gen.RehearsalReplyParams{OrderID: id, Seq: seq}))
	if errors.Is(err, store.ErrNotFound) || err == nil && len(row.Reply) == 0 {
		return nil, refuse(Missing, "There is no such reply. The draft may have been rehearsed again: look at it anew.")
	}
	if err != nil {
		return nil, err
	}
	m := dhcp.Describe(dhcp.Words{Own: d.Doc.Own()}, row.Reply, row.Why)
	m.Accepts = int(row.Accepts)
	return &m, nil
}

// leases is what the devices of a site have leased, as last observed.
func (s *Service) leases(ctx context.Context, siteID string, doc *site.Site) (rehearse.Leases, error) {
	rows, err := s.store.SightingsOfSite(ctx, siteID)
	if err != nil {
		return nil, err
	}
	out := rehearse.Leases{}
	now := time.Now()
	// What has ended comes first, so that the lease that stands is the one kept.
	for _, standing := range []bool{false, true} {
		for _, r := range rows {
			if r.Source != seen.Lease || r.Expires == nil || len(r.Mac) != 6 || (r.State == string(dhcp.Bound) && r.Expires.After(now)) != standing {
				continue
			}
			l := dhcp.Lease{Address: r.Address, MAC: address.MAC(r.Mac), ClientID: r.ClientID, HostName: r.Name, Pool: r.Pool, State: dhcp.State(r.State), Since: r.First, Expires: *r.Expires}
			if p, ok := doc.Pool(r.Pool); ok {
				if n, ok := doc.Network(p.Network); ok {
					l.Subnet = n.Prefix
					out[r.DeviceID] = append(out[r.DeviceID], l)
				}
			}
		}
	}
	return out, nil
}

// target is a device whose configuration a draft changes.
type target struct {
	id, name, kind string
	base, wanted   yang.Config
	access         *gen.DeviceAccess // nil when Lithos cannot reach it
}

// targets lists the devices a draft changes, those Lithos reaches first.
func (s *Service) targets(ctx context.Context, d *Draft) ([]target, error) {
	access, err := s.store.AccessOfSite(ctx, d.Order.SiteID)
	return d.targets(access), err
}

func (d *Draft) targets(access []gen.DeviceAccess) []target {
	var reached, byHand []target
	for _, t := range d.changes {
		for i := range access {
			if access[i].DeviceID == t.id {
				t.access = &access[i]
			}
		}
		if t.access != nil {
			reached = append(reached, t)
		} else {
			byHand = append(byHand, t)
		}
	}
	return append(reached, byHand...)
}

// changed compiles the draft's site and compares it with its base, device by device.
func (d *Draft) changed() []target {
	var out []target
	for _, dev := range inPushOrder(d.Doc.Devices) {
		t := target{id: dev.ID, name: dev.Name, kind: dev.Kind, base: d.baseConfigs[dev.ID], wanted: compile.Device(d.Doc, dev.ID)}
		if !reflect.DeepEqual(t.base, t.wanted) {
			out = append(out, t)
		}
	}
	return out
}

// inPushOrder lists devices in the order a push visits them: what carries frames
// first, then servers, then what relays to servers and leads outside.
func inPushOrder(devices []site.Device) []site.Device {
	rank := map[string]int{site.L2Switch: 0, site.Server: 1, site.L3Switch: 2, site.Router: 3, site.Firewall: 3}
	out := slices.Clone(devices)
	slices.SortStableFunc(out, func(a, b site.Device) int { return rank[a.Kind] - rank[b.Kind] })
	return out
}

// DevicePlan is the ordered steps for one device.
type DevicePlan struct {
	Device  string      `json:"device"`
	Kind    string      `json:"kind"`
	ByHand  bool        `json:"byHand"` // Lithos cannot reach it; a technician does the steps
	Steps   []plan.Step `json:"steps"`
	Timeout int         `json:"timeout"` // seconds until the device returns by itself
}

func (s *Service) plans(targets []target) []DevicePlan {
	out := []DevicePlan{}
	for _, t := range targets {
		out = append(out, DevicePlan{t.name, t.kind, t.access == nil, plan.Between(t.base, t.wanted), int(s.Timing.ConfirmWithin / time.Second)})
	}
	return out
}

// OrderView is a work order as its page shows it.
type OrderView struct {
	// AsOf is when it was read, in microseconds since 1970: of two views the one with
	// the greater is the newer, whichever arrives first.
	AsOf      int64        `json:"asOf"`
	Head      OrderHead    `json:"head"`
	SiteName  string       `json:"siteName"`
	OpenedAt  time.Time    `json:"openedAt"`
	Steps     []StepView   `json:"steps"`
	Plans     []DevicePlan `json:"plans"`
	Findings  []Finding    `json:"findings"` // that the draft brings in
	Networks  []string     `json:"networks"` // ids of those the draft touches
	Rehearsal *Rehearsal   `json:"rehearsal,omitempty"`
	Push      *PushView    `json:"push,omitempty"`
	Lost      []Lost       `json:"lost"` // edits that no longer applied on a newer revision
}

// StepView is one step of a draft.
type StepView struct {
	Says   string    `json:"says"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Undone bool      `json:"undone"`
	// UndoneBy is who took it back.
	UndoneBy string `json:"undoneBy,omitempty"`
}

// Order shows a work order.
func (s *Service) Order(ctx context.Context, id int64) (*OrderView, error) {
	asOf := time.Now().UnixMicro()
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	head, added, access, err := s.judged(ctx, d)
	if err != nil {
		return nil, err
	}
	v := &OrderView{AsOf: asOf, Head: *head, SiteName: d.Doc.Name, Plans: s.plans(d.targets(access)), OpenedAt: d.Order.OpenedAt, Steps: []StepView{}, Findings: []Finding{}, Networks: touched(d)}
	for _, st := range d.Steps {
		v.Steps = append(v.Steps, StepView{st.Says, st.By, st.At, st.Undone, st.UndoneBy})
	}
	for _, f := range added {
		v.Findings = append(v.Findings, scene{added: map[string]bool{f.ID: true}}.finding(f))
	}
	if v.Lost, err = s.lost(ctx, d); err != nil {
		return nil, err
	}
	if v.Rehearsal, err = s.rehearsal(ctx, id); err != nil {
		return nil, err
	}
	v.Push, err = s.latestPush(ctx, id)
	return v, err
}

// OrderRow is one work order in the list of all.
type OrderRow struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	Title    string    `json:"title"`
	Ticket   string    `json:"ticket"`
	Site     string    `json:"site"`
	Code     string    `json:"code"`
	State    string    `json:"state"`
	Steps    int       `json:"steps"`
	By       string    `json:"by"`
	OpenedAt time.Time `json:"openedAt"`
}

// Orders lists the work orders, open ones first, then the newest.
func (s *Service) Orders(ctx context.Context) ([]OrderRow, error) {
	rows, err := s.store.ListOrders(ctx)
	out := []OrderRow{}
	for _, r := range rows {
		out = append(out, OrderRow{r.ID, OrderName(r.ID), r.Title, r.Ticket, r.Site, r.Code, r.State, int(r.Steps), r.Opener, r.OpenedAt})
	}
	return out, err
}
