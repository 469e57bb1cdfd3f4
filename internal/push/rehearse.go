package push

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/dhcp"
	"lithos/core/rehearse"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Rehearsed is the report of a rehearsal and the draft it was of.
type Rehearsed struct {
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
	// readWithin is how long a rehearsal waits for devices to say what they hold. One that does not answer in this time
	// is planned for from what it held when it was read last; a push reads it again.
	readWithin = 10 * time.Second
)

// Rehearse computes what the draft will do to every known client and stores
// the report: only a rehearsed draft can be pushed. The clients go to the store as
// they are computed.
func (s *Service) Rehearse(ctx context.Context, by actor.Technician, id int64, version int32) (*Rehearsed, error) {
	d, err := s.drafts.Editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	// What is planned is planned from what the devices hold now.
	reading, cancel := context.WithTimeout(ctx, readWithin)
	s.watcher.ReadDevices(reading, d.Order.SiteID)
	cancel()
	heard, err1 := s.store.Heard(ctx, d.Order.SiteID)
	access, err2 := s.store.Access(ctx, d.Order.SiteID)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	shown, err := json.Marshal(asShown(s.Plans(d, access).order))
	if err != nil {
		return nil, err
	}
	leases := rehearse.LeasesOf(d.Base.Site, heard, time.Now())
	opens := time.Time{}
	if d.Order.NotBefore != nil {
		opens = *d.Order.NotBefore
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := q.ForgetRehearsalClients(ctx, id); err != nil {
			return err
		}
		out := clientWriter{ctx: ctx, q: q, order: id}
		report, err := rehearse.Run(rehearse.Start{Now: time.Now(), Opens: opens, Site: d.Base.Site,
			Running: d.HeldByTargets(access), Beside: order.Programs(access)}, d.Doc(), leases, out.put)
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
		if err := q.PutRehearsal(ctx,
			gen.PutRehearsalParams{OrderID: id, Version: version, Report: raw, MadeBy: by.ID,
				Plan: shown}); err != nil {
			return err
		}
		return actor.Publish(ctx, q, actor.OrderEvent(id, 0))
	})
	if err != nil {
		return nil, err
	}
	return s.Rehearsal(ctx, id)
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
	row := gen.PutRehearsalClientsParams{OrderID: w.order, Seq: w.seq, Moves: c.Moves, Network: c.Network, Name: c.Name,
		Reply: []byte{}}
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

// Rehearsal is the report of the last rehearsal of an order; nil for none.
func (s *Service) Rehearsal(ctx context.Context, id int64) (*Rehearsed, error) {
	row, err := store.Found(s.store.RehearsalOfOrder(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &Rehearsed{Version: row.Version, By: row.MadeBy}
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
	rows, err := s.store.RehearsalClients(ctx,
		gen.RehearsalClientsParams{OrderID: id, Moves: moving, Skip: int32(from), Most: clientsAPage + 1})
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
	d, err := s.drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	row, err := store.Found(s.store.RehearsalReply(ctx, gen.RehearsalReplyParams{OrderID: id, Seq: seq}))
	if errors.Is(err, store.ErrNotFound) || err == nil && len(row.Reply) == 0 {
		return nil, actor.Refuse(actor.Missing,
			"There is no such reply. The draft may have been rehearsed again: look at it anew.")
	}
	if err != nil {
		return nil, err
	}
	m := dhcp.Describe(dhcp.Words{Own: d.Doc().Own()}, row.Reply, row.Why)
	m.Accepts = int(row.Accepts)
	return &m, nil
}
