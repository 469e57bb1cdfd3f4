// Package moves is moves of networks: planned, cut into work orders, carried on as each lands, and taken back.
package moves

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/netip"
	"slices"
	"time"

	"github.com/riverqueue/river"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Drafts are the sites and work orders that moves are made of.
type Drafts interface {
	Head(ctx context.Context, siteID string, revision int32) (*check.Scene, error)
	SceneOf(ctx context.Context, code string, order int64) (*check.Scene, *order.Draft, int32, error)
	Draft(ctx context.Context, id int64) (*order.Draft, error)
	Fill(ctx context.Context, by actor.Technician, id int64, version int32, edits []edit.Edit) error
	Rebase(ctx context.Context, id int64, version int32) (*order.Draft, error)
	Drop(ctx context.Context, by actor.Technician, id int64, version int32) error
	// DropIn is Drop within a transaction.
	DropIn(ctx context.Context, q *gen.Queries, by actor.Technician, id int64, version int32, title string) error
}

// Accounts are the technicians.
type Accounts interface {
	// Acting is who something is done for; it is refused where their account is switched off.
	Acting(ctx context.Context, id int64) (actor.Technician, error)
}

// Service is the use cases of moves. It is safe for concurrent use, and any number of processes may run one on the
// same database.
type Service struct {
	store    *store.Store
	drafts   Drafts
	accounts Accounts
	log      *slog.Logger
}

// New makes the use cases on a migrated database.
func New(s *store.Store, drafts Drafts, accounts Accounts, log *slog.Logger) *Service {
	return &Service{store: s, drafts: drafts, accounts: accounts, log: log}
}

// MovePlan is a move as it would be: nothing of it is kept.
type MovePlan struct {
	Site      string         `json:"site"` // code
	SiteName  string         `json:"siteName"`
	Zone      string         `json:"zone" doc:"the site's time zone"`
	Title     string         `json:"title"`
	Says      string         `json:"says" doc:"what moves where"`
	Request   move.Request   `json:"request"`
	Networks  []MovedNetwork `json:"networks"`
	Threads   []move.Thread  `json:"threads"`
	Bands     []move.Band    `json:"bands"`
	Rows      []move.Moved   `json:"rows"`
	Notes     []move.Mention `json:"notes" doc:"free text that mentions an old address, to check by hand"`
	Phases    []MovePhase    `json:"phases"`
	Elsewhere []Elsewhere    `json:"elsewhere" doc:"the customer's other sites that point at what moves"`
	Visits    []MoveVisit    `json:"visits"`
	Night     move.Night     `json:"night"`
	Findings  []MoveFinding  `json:"findings" doc:"what is wrong with the move, and what it would bring into the site"`
}

// MovedNetwork is a network before and after.
type MovedNetwork struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Was      string `json:"was" doc:"subnet; empty for a new network"`
	Will     string `json:"will" doc:"subnet; empty for one that joins another"`
	WasVLAN  int    `json:"wasVlan"`
	WillVLAN int    `json:"willVlan"`
	Into     string `json:"into,omitempty" doc:"id of the network it joins, or is split from"`
	WasEnds  Ends   `json:"wasEnds"`
	WillEnds Ends   `json:"willEnds"`
}

// Ends are how a network is labelled on a ruler.
type Ends struct {
	First string `json:"first"`
	Last  string `json:"last" doc:"as much of it as differs"`
	Size  int    `json:"size" doc:"addresses; 0 for no network"`
}

func endsOf(p netip.Prefix) Ends {
	all := address.Of(p)
	return Ends{all.From.String(), address.Short(all.To, p), all.Size()}
}

// MovePhase is a phase with its work order, once that is open.
type MovePhase struct {
	Seq       int         `json:"seq"`
	Kind      string      `json:"kind" enum:"shorten,beside,swap,follow,elsewhere,back"`
	Title     string      `json:"title"`
	Says      string      `json:"says"`
	NotBefore time.Time   `json:"notBefore"`
	NotAfter  time.Time   `json:"notAfter"`
	Edits     int         `json:"edits"`
	Proof     *move.Proof `json:"proof,omitempty"`
	Site      string      `json:"site,omitempty" doc:"code of another site, of a phase there"`
	Order     int64       `json:"order,omitempty"`
	Name      string      `json:"name,omitempty" doc:"of the work order"`
	Stage     string      `json:"stage,omitempty" enum:"later,drafted,rehearsed,waiting,pushing,landed,returned,dropped"`
	LandedAt  *time.Time  `json:"landedAt,omitempty"`
	Overdue   bool        `json:"overdue,omitempty"`
}

// Elsewhere is what changes at another site, or of what is kept for all sites.
type Elsewhere struct {
	Site string       `json:"site,omitempty" doc:"code; none for what is kept for all sites"`
	Name string       `json:"name"`
	Rows []move.Moved `json:"rows"`
}

// MoveVisit is a device to be visited by hand, who has been there, and where it is seen.
type MoveVisit struct {
	move.Visit
	Seq    int        `json:"seq"`
	DoneBy string     `json:"doneBy,omitempty"`
	DoneAt *time.Time `json:"doneAt,omitempty"`
	ToUndo bool       `json:"toUndo,omitempty" doc:"the move was undone, and this was done: it is to have its old address again"`
	Seen   string     `json:"seen,omitempty" enum:"new,old" doc:"where it was seen last, since the swap"`
	SeenAt *time.Time `json:"seenAt,omitempty"`
}

// MoveFinding is a finding about a move, or one that it would bring into the site.
type MoveFinding struct {
	Rule     string `json:"rule"`
	Severity string `json:"severity" enum:"blocks,warns,notes"`
	Title    string `json:"title"`
	Says     string `json:"says"`
}

// usualPace is how long a step takes at a site that was never pushed to.
const usualPace = time.Second

// BeginMove opens the work orders of a move, each with its window, and fills the draft of each that can be drafted now.
func (s *Service) BeginMove(ctx context.Context, by actor.Technician, code string, r move.Request) (int64, error) {
	sc, _, revision, err := s.drafts.SceneOf(ctx, code, 0)
	if err != nil {
		return 0, err
	}
	if err := checkTitle(r); err != nil {
		return 0, err
	}
	p, err := s.plan(ctx, sc, r)
	if err != nil {
		return 0, err
	}
	if len(p.Rows) == 0 {
		return 0, actor.RefuseFields("The move was not begun", site.FieldErrors{{Field: "shifts",
			Says: "Nothing would change. Type a new subnet, VLAN id or gateway, or choose how host numbers are kept."}})
	}
	id, err := s.keep(ctx, by, p, revision)
	if err != nil {
		return 0, err
	}
	return id, s.fill(ctx, id)
}

func checkTitle(r move.Request) error {
	var wrong site.FieldErrors
	if r.Title == "" {
		wrong = append(wrong, site.FieldError{Field: "title", Says: "Type what the move is called, for example " +
			"Handsets to VLAN 131."})
	}
	for field, text := range map[string]string{"title": r.Title, "ticket": r.Ticket} {
		if err := site.CheckText(text); err != nil {
			wrong = append(wrong, site.FieldError{Field: field, Says: err.Error()})
		}
	}
	if len(wrong) > 0 {
		return actor.RefuseFields("The move was not begun", wrong)
	}
	return nil
}

// fill puts the edits of phases into the drafts of their orders: of those that apply to the site as it is, and where
// every phase before has landed. What a landed phase leaves is the base of the next.
func (s *Service) fill(ctx context.Context, id int64) error {
	m, err := s.store.MoveByID(ctx, id)
	if err != nil {
		return err
	}
	by, err := s.accounts.Acting(ctx, m.OpenedBy)
	if err != nil {
		return settled(err) // its page says why it waits
	}
	phases, err := s.store.PhasesOf(ctx, id)
	if err != nil {
		return err
	}
	ready := true
	for _, p := range phases {
		if err := s.fillOne(ctx, by, p, ready); err != nil {
			return err
		}
		if p.Kind != kindElsewhere {
			ready = ready && p.State == "landed"
		}
	}
	if err := s.carryLevels(ctx, by, m, phases); err != nil {
		return err
	}
	return s.end(ctx, m, phases)
}

const (
	kindElsewhere = "elsewhere"
	kindBack      = "back"
)

func (s *Service) fillOne(ctx context.Context, by actor.Technician, p gen.PhasesOfRow, ready bool) error {
	if p.State != "open" {
		return nil
	}
	if p.Filled {
		if !ready || p.BaseRevision == p.Head || p.Waits {
			return nil
		}
		_, err := s.drafts.Rebase(ctx, p.OrderID, p.Version)
		return settled(err)
	}
	var edits []edit.Edit
	if err := json.Unmarshal(p.Edits, &edits); err != nil {
		return err
	}
	head, err := s.drafts.Head(ctx, p.SiteID, p.Head)
	if err != nil {
		return err
	}
	_, conflicts := edit.Replay(head.Site, edits)
	if early := p.Kind != move.Follow && len(conflicts) == 0; !early && !ready && p.Kind != kindElsewhere {
		return nil
	}
	d, err := s.drafts.Draft(ctx, p.OrderID)
	if err == nil && len(d.Steps)+d.Order.Lost == 0 {
		err = s.drafts.Fill(ctx, by, p.OrderID, d.Order.Version, edits)
	}
	if err != nil {
		return settled(err) // another fills it at the same time, or it is looked at again
	}
	// A process that is killed before this finds the draft filled.
	_, err = s.store.PhaseFilled(ctx, gen.PhaseFilledParams{MoveID: p.MoveID, Seq: p.Seq})
	return err
}

// settled forgives what another did at the same time, and what waits.
func settled(err error) error {
	if errors.As(err, new(*actor.Refusal)) {
		return nil
	}
	return err
}

// end closes a move none of whose orders is open any more.
func (s *Service) end(ctx context.Context, m gen.MoveByIDRow, phases []gen.PhasesOfRow) error {
	if m.State != "open" || slices.ContainsFunc(phases, func(p gen.PhasesOfRow) bool {
		return p.State == "open" || p.State == "pushing"
	}) {
		return nil
	}
	state := "dropped"
	for _, p := range phases {
		if p.State == "landed" && p.Kind != kindElsewhere {
			state = "done"
			if p.Kind == kindBack {
				state = "back"
			}
		}
	}
	_, err := s.store.EndMove(ctx, gen.EndMoveParams{ID: m.ID, State: state})
	return errors.Join(err, actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: m.Code}))
}

// carryArgs is the job that carries moves on.
type carryArgs struct{}

// Kind implements river.JobArgs.
func (carryArgs) Kind() string { return "carry-moves-on" }

type carryWorker struct {
	river.WorkerDefaults[carryArgs]
	*Service
}

// Work implements river.Worker.
func (w carryWorker) Work(ctx context.Context, _ *river.Job[carryArgs]) error {
	return w.CarryMovesOn(ctx)
}

// Work adds the worker that carries moves on.
func (s *Service) Work(workers *river.Workers) { river.AddWorker(workers, &carryWorker{Service: s}) }

// InsertOpts implements river.JobArgsWithInsertOpts: one is waiting or running at a time, over all processes.
func (carryArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByState: store.Unfinished}}
}

// Due is the job of what can be drafted now; nil for nothing.
func (s *Service) Due(ctx context.Context) (river.JobArgs, error) {
	moves, err := s.store.PhasesToFill(ctx)
	if err != nil || len(moves) == 0 {
		return nil, err
	}
	return carryArgs{}, nil
}

// CarryMovesOn fills the drafts that can be filled by now, and closes the moves that have ended.
func (s *Service) CarryMovesOn(ctx context.Context) error {
	ids, err := s.store.PhasesToFill(ctx)
	for _, id := range ids {
		err = errors.Join(err, s.fill(ctx, id))
	}
	return err
}
