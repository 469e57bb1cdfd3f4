package moves

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lithos/core/check"
	"lithos/core/move"
	"lithos/core/observed"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// MoveView is a move that was begun.
type MoveView struct {
	MovePlan
	ID       int64     `json:"id"`
	State    string    `json:"state" enum:"open,done,back,dropped"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Revision int32     `json:"revision" doc:"of the site as it was"`
	// Next is the phase that is to be pushed next, counted from 1; 0 for none.
	Next  int        `json:"next"`
	Due   *MoveDue   `json:"due,omitempty" doc:"what is to be done next; none where nothing is"`
	Waits string     `json:"waits,omitempty" doc:"why no phase is drafted any more"`
	Back  bool       `json:"back" doc:"it was undone: who is still at new addresses, and visits that were done are to be undone"`
	After MoveResult `json:"after" doc:"who is still at old addresses, once the swap has landed"`
}

// MoveDue is what is to be done next of a move.
type MoveDue struct {
	Do    string `json:"do" enum:"order,visits" doc:"order: a work order is next; visits: somebody goes to the devices"`
	Order int64  `json:"order,omitempty"`
	Says  string `json:"says"`
}

// MoveResult is who did not follow a move.
type MoveResult struct {
	Swapped   *time.Time  `json:"swapped,omitempty" doc:"when the swap landed"`
	Old       []Straggler `json:"old" doc:"still seen at an old address"`
	Other     []Straggler `json:"other" doc:"came back with another address than the move gives them"`
	Leases    []Straggler `json:"leases" doc:"hold a lease of an old address yet, and ask its server"`
	Unrenewed []Straggler `json:"unrenewed" doc:"are where they should be, were told an old server, and have not renewed since"`
}

// Straggler is a machine that is not where a move puts it.
type Straggler struct {
	Name    string     `json:"name"`
	MAC     string     `json:"mac"`
	Address netip.Addr `json:"address"`
	Should  string     `json:"should,omitempty" doc:"the address it should have"`
	At      string     `json:"at,omitempty" doc:"where it is plugged in"`
	Seen    time.Time  `json:"seen"`
	Until   *time.Time `json:"until,omitempty" doc:"when its lease ends"`
	// Servers are what it was told that is no more.
	Servers []move.Server `json:"servers,omitempty"`
}

// ListedMove is one move in the list of all.
type ListedMove struct {
	ID     int64      `json:"id"`
	Title  string     `json:"title"`
	Site   string     `json:"site"` // code
	Name   string     `json:"name"` // of the site
	State  string     `json:"state" enum:"open,done,back,dropped"`
	By     string     `json:"by"`
	At     time.Time  `json:"at"`
	Phases int        `json:"phases"`
	Landed int        `json:"landed"`
	Next   string     `json:"next,omitempty" doc:"the phase that is next"`
	NextAt *time.Time `json:"nextAt,omitempty" doc:"when its window opens"`
}

// MoveOf is the move that an order is a phase of.
type MoveOf struct {
	ID    int64  `json:"id"`
	Title string `json:"title"`
	Phase int    `json:"phase"`
	Of    int    `json:"of"`
}

// Moves lists the moves, those under way first, then the newest.
func (s *Service) Moves(ctx context.Context) ([]ListedMove, error) {
	rows, err := s.store.OpenMoves(ctx)
	out := []ListedMove{}
	for _, r := range rows {
		m := ListedMove{ID: r.ID, Title: r.Title, Site: r.Code, Name: r.Site, State: r.State, By: r.Opener,
			At:     r.OpenedAt,
			Phases: int(r.Phases), Landed: int(r.Landed), Next: r.NextTitle}
		if r.Next.Unix() > 0 {
			m.NextAt = &r.Next
		}
		out = append(out, m)
	}
	return out, err
}

// MoveOfOrder is the move that an order is a phase of; nil for none.
func (s *Service) MoveOfOrder(ctx context.Context, id int64) (*MoveOf, error) {
	row, err := store.Found(s.store.MoveOfOrder(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	m, err1 := s.store.MoveByID(ctx, row.MoveID)
	phases, err2 := s.store.PhasesOf(ctx, row.MoveID)
	return &MoveOf{ID: m.ID, Title: m.Title, Phase: int(row.Seq), Of: len(phases)}, errors.Join(err1, err2)
}

func (s *Service) found(ctx context.Context, id int64) (gen.MoveByIDRow, error) {
	m, err := store.Found(s.store.MoveByID(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return m, actor.Refuse(actor.Missing, "There is no move %d.", id)
	}
	return m, err
}

// Move is a move as its page shows it.
func (s *Service) Move(ctx context.Context, id int64) (*MoveView, error) {
	m, err := s.found(ctx, id)
	if err != nil {
		return nil, err
	}
	phases, err1 := s.store.PhasesOf(ctx, id)
	visits, err2 := s.store.VisitsOf(ctx, id)
	heard, err3 := s.store.Heard(ctx, m.SiteID)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	p, err := s.again(ctx, m, phases)
	if err != nil {
		return nil, fmt.Errorf("the move %d cannot be planned again: %w", id, err)
	}
	out := &MoveView{MovePlan: *p.view, ID: m.ID, State: m.State, By: m.Opener, At: m.OpenedAt,
		Revision: m.BaseRevision,
		Back:     m.State == "back",
		After:    MoveResult{Old: []Straggler{}, Other: []Straggler{}, Leases: []Straggler{}, Unrenewed: []Straggler{}}}
	out.phases(phases)
	now := time.Now()
	sightings := observed.Sightings(p.Will, heard, now)
	for i, v := range visits {
		if i < len(out.Visits) {
			one := &out.Visits[i]
			one.DoneBy, one.DoneAt = v.DoneBy, v.DoneAt
			one.look(sightings, out.After.Swapped)
			one.ToUndo = out.Back && (one.DoneAt != nil || one.Seen == "new")
		}
	}
	if out.After.Swapped != nil {
		out.After.look(p.course(out.Back), sightings, now)
		if !out.Back {
			out.After.findAskers(p, heard, now)
		}
	}
	out.Due = out.due(now)
	if m.State == "open" {
		var refusal *actor.Refusal
		if _, err := s.accounts.Acting(ctx, m.OpenedBy); errors.As(err, &refusal) {
			out.Waits = refusal.Says + " Its next phases are not drafted. Take the move over, or have the account " +
				"switched on."
		}
	}
	return out, nil
}

// asked is the site as it was before a move, and what was asked for.
func (s *Service) asked(ctx context.Context, m gen.MoveByIDRow) (was *check.Scene, r move.Request, err error) {
	was, err = s.drafts.Head(ctx, m.SiteID, m.BaseRevision)
	return was, r, errors.Join(err, json.Unmarshal(m.Request, &r))
}

// again plans a move as it was planned when it was begun, for the hour that its swap has by now. What it has changed
// of what is kept for all sites is as it was before.
func (s *Service) again(ctx context.Context, m gen.MoveByIDRow, phases []gen.PhasesOfRow) (*planned, error) {
	was, r, err := s.asked(ctx, m)
	if err != nil {
		return nil, err
	}
	for _, p := range phases {
		if p.Kind == move.Swap && p.State == "open" && p.Opens != nil {
			r.Night = *p.Opens
		}
	}
	if m.Levels == nil {
		return s.plan(ctx, was, r)
	}
	var levels []keptLevel
	if err := json.Unmarshal(m.Levels, &levels); err != nil {
		return nil, err
	}
	return s.planWith(ctx, was, r, levels)
}

// phases shows the phases as their orders stand.
func (v *MoveView) phases(rows []gen.PhasesOfRow) {
	v.Phases = []MovePhase{}
	for _, r := range rows {
		p := MovePhase{Seq: int(r.Seq), Kind: r.Kind, Title: r.Title, Says: r.Says, NotBefore: r.NotBefore,
			NotAfter: r.NotAfter, Order: r.OrderID, Name: order.Name(r.OrderID), Stage: stageOf(r),
			LandedAt: r.LandedAt}
		if r.Opens != nil {
			p.NotBefore = *r.Opens
		}
		if r.Closes != nil {
			p.NotAfter = *r.Closes
		}
		var edits []json.RawMessage
		_ = json.Unmarshal(r.Edits, &edits) // Lithos wrote both itself
		p.Edits = len(edits)
		if r.Kind != kindElsewhere && r.Kind != kindBack {
			p.Proof = new(move.Proof)
			_ = json.Unmarshal(r.Proof, p.Proof)
		} else {
			p.Site = r.Code
		}
		p.Overdue = r.State == "open" && time.Now().After(p.NotAfter)
		if r.Kind == move.Swap && v.After.Swapped == nil || r.Kind == kindBack && r.State == "landed" {
			v.After.Swapped = r.LandedAt
		}
		if v.Next == 0 && r.State == "open" && r.Kind != kindElsewhere {
			v.Next = p.Seq
		}
		v.Phases = append(v.Phases, p)
	}
}

func stageOf(r gen.PhasesOfRow) string {
	switch {
	case r.State != "open":
		return r.State
	case !r.Filled:
		return "later"
	case r.Waits:
		return "waiting"
	case r.Rehearsed:
		return "rehearsed"
	case r.Returned:
		return "returned"
	}
	return "drafted"
}

// look finds where a device that is visited was seen last, since the swap; and where it stands, unless its note says
// so.
func (v *MoveVisit) look(all []observed.Sighting, since *time.Time) {
	for _, one := range all {
		if v.MAC != "" && !one.MAC.IsZero() && one.MAC.String() != v.MAC {
			continue // another machine
		}
		if one.Address == v.Was && v.At == "" {
			v.At = one.Port
		}
		at := one.Last
		if since != nil && at.Before(*since) || v.SeenAt != nil && !at.After(*v.SeenAt) {
			continue
		}
		switch {
		case one.Address == v.Will:
			v.Seen, v.SeenAt = "new", &at
		case one.Address == v.Was && since != nil && one.Live:
			v.Seen, v.SeenAt = "old", &at
		}
	}
}

// due is what is to be done next: the phase whose turn it is, what points at the move from other sites once the swap
// has landed, and before the window of the last phase the visits.
func (v *MoveView) due(now time.Time) *MoveDue {
	var next *MovePhase
	for i := range v.Phases {
		p := &v.Phases[i]
		open := p.Order != 0 && p.Stage != "landed" && p.Stage != "dropped"
		switch {
		case open && p.Kind == kindBack:
			return &MoveDue{"order", p.Order, p.Name + ": " + p.Title}
		case open && p.Kind == kindElsewhere && v.After.Swapped != nil:
			return &MoveDue{"order", p.Order, p.Name + " at " + p.Title}
		case open && p.Kind != kindElsewhere && next == nil:
			next = p
		}
	}
	if left := v.visitsLeft(); left > 0 && (next == nil || now.Before(next.NotBefore)) {
		return &MoveDue{Do: "visits", Says: site.Counted(left, "device") + " to be visited"}
	}
	if next == nil {
		return nil
	}
	return &MoveDue{"order", next.Order, next.Name + ": " + next.Title}
}

// visitsLeft counts the devices that are still to be visited, or whose visit is to be undone.
func (v *MoveView) visitsLeft() int {
	left := 0
	for _, one := range v.Visits {
		if v.After.Swapped != nil && !v.Back && one.DoneAt == nil && one.Seen != "new" || one.ToUndo {
			left++
		}
	}
	return left
}

// course is which way a move goes: out of which subnets, to which site, to which addresses.
type course struct {
	from  []netip.Prefix
	to    *site.Site
	given map[netip.Addr]bool
}

// course is the way that the move has gone last: there, or back.
func (p *planned) course(back bool) course {
	out := course{from: p.Old(), to: p.Will, given: map[netip.Addr]bool{}}
	if back {
		out.from, out.to = p.New(), p.Was
	}
	for _, t := range p.Threads {
		to := t.To
		if back {
			to = t.From
		}
		out.given[to] = true
	}
	return out
}

// look finds who did not follow.
func (r *MoveResult) look(c course, all []observed.Sighting, now time.Time) {
	old, given := c.from, c.given
	should := map[string]netip.Addr{}
	for i := range c.to.Reservations {
		if x := c.to.Reservations[i]; !x.MAC.IsZero() {
			should[x.MAC.String()] = x.Address
		}
	}
	for i := range c.to.FixedDevices {
		if x := &c.to.FixedDevices[i]; !x.MAC.IsZero() {
			should[x.MAC.String()] = x.Address
		}
	}
	for _, one := range all {
		s := Straggler{Name: cmp.Or(one.Name, one.MAC.String()), MAC: one.MAC.String(), Address: one.Address,
			At: one.Port, Seen: one.Last}
		want, known := should[s.MAC]
		if known {
			s.Should = want.String()
		}
		atOld := slices.ContainsFunc(old, func(q netip.Prefix) bool { return q.Contains(one.Address) })
		switch {
		case atOld && one.Source == observed.Lease && one.Last.Before(*r.Swapped):
			if !one.Live || !one.Expires.After(now) {
				continue // it has ended
			}
			until := one.Expires
			s.Until = &until
			r.Leases = append(r.Leases, s)
		case atOld && one.Live && one.Last.After(*r.Swapped):
			r.Old = append(r.Old, s)
		case known && want != one.Address && one.Live && one.Last.After(*r.Swapped) && given[want]:
			r.Other = append(r.Other, s)
		}
	}
}

// findAskers finds who asks an old server, as far as can be known: who was told of it by a lease of before the swap,
// and has not been heard of by its DHCP server since. Those at an old address are listed as such.
func (r *MoveResult) findAskers(p *planned, heard []observed.Heard, now time.Time) {
	telling, old := p.Telling(), p.Old()
	for _, h := range heard {
		if h.Source != observed.Lease || !h.Bound || !h.Expires.After(now) || !h.Last.Before(*r.Swapped) ||
			slices.ContainsFunc(old, func(q netip.Prefix) bool { return q.Contains(h.Address) }) {
			continue
		}
		if servers := telling.Servers(h); len(servers) > 0 {
			r.Unrenewed = append(r.Unrenewed, Straggler{Name: cmp.Or(h.Name, h.MAC.String()), MAC: h.MAC.String(),
				Address: h.Address, Seen: h.Last, Until: &h.Expires, Servers: servers})
		}
	}
}

// TakeOverMove has a move go on in another technician's name, who is asked for whatever is left of it.
func (s *Service) TakeOverMove(ctx context.Context, by actor.Technician, id int64) error {
	m, err := s.found(ctx, id)
	if err != nil {
		return err
	}
	n, err := s.store.SetMoveOpener(ctx, gen.SetMoveOpenerParams{ID: id, By: by.ID})
	if err == nil && n == 0 {
		err = actor.Refuse(actor.Conflict, "The move has ended; there is nothing to take over.")
	}
	if err != nil {
		return err
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, "move-taken-over", m.Code, m.Title), s.fill(ctx, id),
		actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: m.Code}))
}

// TickVisit notes that somebody has been at a device, at a moment that may lie in the past where they were out of
// reach, or takes that back.
func (s *Service) TickVisit(ctx context.Context, by actor.Technician, id int64, seq int32, on bool,
	at time.Time) error {
	m, err := s.found(ctx, id)
	if err != nil {
		return err
	}
	if at.IsZero() || at.After(time.Now()) || at.Before(m.OpenedAt) {
		at = time.Now()
	}
	visits, err := s.store.VisitsOf(ctx, id)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(visits, func(v gen.VisitsOfRow) bool { return v.Seq == seq })
	if i < 0 {
		return actor.Refuse(actor.Missing, "The move has no visit %d.", seq)
	}
	var v move.Visit
	if err := json.Unmarshal(visits[i].Visit, &v); err != nil {
		return err
	}
	says := fmt.Sprintf("%s now has %s", v.Name, v.Will)
	var n int64
	if on {
		n, err = s.store.TickVisit(ctx, gen.TickVisitParams{MoveID: id, Seq: seq, By: &by.ID, At: &at})
	} else {
		says = fmt.Sprintf("%s does not have %s yet", v.Name, v.Will)
		if m.State == "back" {
			says = fmt.Sprintf("%s has %s again", v.Name, v.Was)
		}
		n, err = s.store.UntickVisit(ctx, gen.UntickVisitParams{MoveID: id, Seq: seq})
	}
	if err != nil || n == 0 { // somebody else ticked it: it is ticked, and their name stays
		return err
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, "visited", m.Code, says),
		actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: m.Code}))
}
