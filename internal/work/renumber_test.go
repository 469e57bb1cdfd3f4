package work_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/moves"
	"lithos/internal/push"
	"lithos/internal/standin"
)

// theatre is a move of the operating theatre at Moss End to another subnet and VLAN.
func theatre() move.Request {
	return move.Request{Title: "Theatre to VLAN 148", Night: time.Now().Add(-time.Hour), Shifts: []move.Shift{{
		Network: "net-moss-theatre", Prefix: netip.MustParsePrefix("10.84.53.0/26"), VLAN: 148}}}
}

func (o *office) move(id int64) *moves.MoveView {
	o.t.Helper()
	v, err := o.Moves.Move(o.t.Context(), id)
	require.NoError(o.t, err)
	return v
}

// landPhase gives a phase a window that is open, and pushes it.
func (o *office) landPhase(p moves.MovePhase) {
	o.t.Helper()
	require.NoError(o.t, o.Pushes.SetWindow(o.t.Context(), o.mk, p.Order, push.WindowEntry{}))
	require.NoError(o.t, o.pushAll(o.Service, p.Order))
	v := o.waitPush(o.Service, p.Order)
	require.Equal(o.t, "landed", v.Push.State, v.Push.Problem)
	require.NoError(o.t, o.Moves.CarryMovesOn(o.t.Context()))
}

func (o *office) document(code string) *site.Site {
	o.t.Helper()
	doc, err := o.Sites.Export(o.t.Context(), code)
	require.NoError(o.t, err)
	return doc
}

func encoded(t *testing.T, s *site.Site) string {
	raw, err := site.Encode(s)
	require.NoError(t, err)
	return string(raw)
}

// A move in its phases, each a work order of its own: landed one after another, until the site is as it was intended,
// and the devices hold it.
func TestMoveInPhases(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	ctx := t.Context()
	before := o.document("moss-end")
	plan, err := o.Moves.PlanMove(ctx, "moss-end", theatre())
	require.NoError(t, err)
	assert.Equal(t, "Theatre out of 10.84.52.0/26 into 10.84.53.0/26, VLAN 48 to 148", plan.Says)
	require.Len(t, plan.Phases, 3)
	require.Len(t, plan.Visits, 1)
	assert.Equal(t, "10.84.53.12", plan.Visits[0].Will.String())
	assert.Equal(t, 2, plan.Night.Clients, "those with reservations; nobody has been heard yet")
	assert.Zero(t, plan.Night.Stranded)

	id, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", theatre())
	require.NoError(t, err)
	m := o.move(id)
	assert.Equal(t, []string{"drafted", "drafted", "later"}, []string{m.Phases[0].Stage, m.Phases[1].Stage,
		m.Phases[2].Stage}, "the swap can be rehearsed before the leases are short; clearing cannot be drafted yet")
	o.landPhase(m.Phases[0])
	o.landPhase(m.Phases[1])
	m = o.move(id)
	assert.NotNil(t, m.After.Swapped)
	assert.Equal(t, 3, m.Next)
	assert.Equal(t, "drafted", m.Phases[2].Stage, "it was filled when the swap had landed")
	// A process that was killed after it had filled the draft, and before it had noted that.
	o.exec("UPDATE move_phase SET filled = false WHERE seq = 3")
	require.NoError(t, o.Moves.CarryMovesOn(ctx))
	d, err := o.Drafts.Draft(ctx, m.Phases[2].Order)
	require.NoError(t, err)
	assert.Len(t, d.Steps, 1, "it is filled once")
	o.landPhase(m.Phases[2])
	m = o.move(id)
	assert.Equal(t, "done", m.State)

	p, err := move.Of(before, m.Request)
	require.NoError(t, err)
	after := o.document("moss-end")
	assert.Equal(t, encoded(t, p.Will), encoded(t, after))
	for _, name := range moss {
		assert.True(t, o.devices.ByID[name].Running().Equal(compile.Device(after, name)), name)
	}

	// Done, it can be taken back still.
	_, err = o.Moves.TakeMoveBack(ctx, o.mk, id)
	require.NoError(t, err)
	m = o.move(id)
	assert.Equal(t, "open", m.State)
	_, err = o.Moves.TakeMoveBack(ctx, o.mk, id)
	refusal(t, err, actor.Conflict, "takes the move back already")
	o.landPhase(m.Phases[len(m.Phases)-1])
	assert.Equal(t, "back", o.move(id).State)
	assert.Equal(t, encoded(t, before), encoded(t, o.document("moss-end")))
	_, err = o.Moves.TakeMoveBack(ctx, o.mk, id)
	refusal(t, err, actor.Conflict, "there is nothing to undo")
}

// A move is taken back after its swap: what has not landed is dropped, and the site is what it was, byte for byte.
func TestMoveTakenBack(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	ctx := t.Context()
	before := o.document("moss-end")
	held := o.held()
	id, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", theatre())
	require.NoError(t, err)
	m := o.move(id)
	o.landPhase(m.Phases[0])
	o.landPhase(m.Phases[1])
	back, err := o.Moves.TakeMoveBack(ctx, o.mk, id)
	require.NoError(t, err)
	require.NotZero(t, back)
	m = o.move(id)
	require.Len(t, m.Phases, 4)
	assert.Equal(t, "dropped", m.Phases[2].Stage)
	o.landPhase(m.Phases[3])
	assert.Equal(t, "back", o.move(id).State)
	assert.Equal(t, encoded(t, before), encoded(t, o.document("moss-end")))
	o.unchanged(held)
	for _, r := range []string{"move-unfinished", "move-left-behind"} {
		assert.False(t, o.found("moss-end", r), r)
	}
}

// Two technicians begin the same move at once: one of them has it, and the other is told.
func TestOneMoveOfANetwork(t *testing.T) {
	t.Parallel()
	o := open(t)
	ctx := t.Context()
	errs := make(chan error, 2)
	for range 2 {
		go func() {
			_, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", theatre())
			errs <- err
		}()
	}
	first, second := <-errs, <-errs
	if first != nil {
		first, second = second, first
	}
	require.NoError(t, first)
	refusal(t, second, actor.Conflict, "Theatre moves with \"Theatre to VLAN 148\" already")
	list, err := o.Moves.Moves(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	_, err = o.Moves.TakeMoveBack(ctx, o.mk, list[0].ID)
	require.NoError(t, err)
	_, err = o.Moves.BeginMove(ctx, o.mk, "moss-end", theatre())
	require.NoError(t, err, "the first was dropped")
}

// The swap is given another hour: the night is played again for that.
func TestTheNightAtAnotherHour(t *testing.T) {
	t.Parallel()
	o := open(t)
	r := theatre()
	r.Night = time.Now().Add(24 * time.Hour).Truncate(time.Minute)
	id, err := o.Moves.BeginMove(t.Context(), o.mk, "moss-end", r)
	require.NoError(t, err)
	m := o.move(id)
	require.NotNil(t, m.Night.Fates[0].Lost)
	assert.WithinDuration(t, r.Night, *m.Night.Fates[0].Lost, time.Minute)
	later := r.Night.Add(50 * time.Hour)
	zone := o.document("moss-end").Location()
	require.NoError(t, o.Pushes.SetWindow(t.Context(), o.mk, m.Phases[1].Order,
		push.WindowEntry{NotBefore: later.In(zone).Format(site.Clock)}))
	assert.WithinDuration(t, later, *o.move(id).Night.Fates[0].Lost, time.Minute)
}

// Visits are ticked, once and by one, and seen from where a machine answers.
func TestVisits(t *testing.T) {
	t.Parallel()
	o := open(t)
	ctx := t.Context()
	id, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", theatre())
	require.NoError(t, err)
	long := time.Now().Add(-48 * time.Hour)
	require.NoError(t, o.Moves.TickVisit(ctx, o.mk, id, 1, true, long))
	v := o.move(id).Visits[0]
	assert.Equal(t, "Maren Kolb", v.DoneBy)
	assert.True(t, v.DoneAt.After(long), "nobody was there before the move was begun")
	require.NoError(t, o.Moves.TickVisit(ctx, o.mk, id, 1, false, time.Time{}))
	assert.Nil(t, o.move(id).Visits[0].DoneAt)
	refusal(t, o.Moves.TickVisit(ctx, o.mk, id, 7, true, time.Time{}), actor.Missing, "no visit 7")

	page, err := o.OldNumbers(ctx, id)
	require.NoError(t, err)
	assert.Contains(t, page.Markdown(), "10.84.52.12")
	assert.Contains(t, page.Markdown(), "10.84.53.12")
}

// What cannot be is refused by its field, and nothing is opened.
func TestMoveRefused(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	ctx := t.Context()
	into := func(prefix string) func(r *move.Request) {
		return func(r *move.Request) { r.Shifts[0].Prefix = netip.MustParsePrefix(prefix) }
	}
	for says, change := range map[string]func(r *move.Request){
		"Choose at least one network": func(r *move.Request) { r.Shifts = nil },
		"is not a subnet":             into("10.84.53.5/26"),
		"would overlap Ward":          into("10.84.50.0/24"),
		"There is no such network":    func(r *move.Request) { r.Shifts[0].Network = "net-gone" },
		"is no usable address": func(r *move.Request) {
			r.Shifts[0].Gateway = netip.MustParseAddr("10.84.53.63")
		},
		"has no room":          into("10.84.53.0/30"),
		"Nothing would change": func(r *move.Request) { r.Shifts[0] = move.Shift{Network: "net-moss-ward"} },
	} {
		r := theatre()
		change(&r)
		_, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", r)
		var refused *actor.Refusal
		require.ErrorAs(t, err, &refused, says)
		require.NotEmpty(t, refused.Fields, says)
		assert.Contains(t, refused.Fields[0].Says, says)
	}
	list, err := o.Moves.Moves(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// Another site of the customer that names a moved address gets an order of its own.
func TestMoveIsFollowedElsewhere(t *testing.T) {
	t.Parallel()
	o := open(t)
	ctx := t.Context()
	r := move.Request{Title: "Bench", Night: time.Now().Add(time.Hour), Shifts: []move.Shift{{Network: "net-moss-bench",
		Prefix: netip.MustParsePrefix("10.84.49.0/26")}}}
	id, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", r)
	require.NoError(t, err)
	m := o.move(id)
	var there []moves.MovePhase
	for _, p := range m.Phases {
		if p.Kind == "elsewhere" {
			there = append(there, p)
		}
	}
	require.NotEmpty(t, there)
	assert.Equal(t, "kelder-bridge", there[len(there)-1].Site)
	d, err := o.Drafts.Draft(ctx, there[len(there)-1].Order)
	require.NoError(t, err)
	raw, err := json.Marshal(edit.Between(d.Base.Site, d.Doc()))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "10.84.49.10", "Kelder Bridge asks Moss End's server by its new address")
}

// The night that technicians fear: five VLANs are renumbered on a router with subinterfaces, a core switch and two
// access switches whose management VLAN's untagged id changes, and the core switch loses its connection midway. Nothing
// is lost: it returns, or lands; pushed again, it lands, and every device is reached at its new address.
func TestTheNight(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	o.Pushes.Outside = netip.Addr{} // nothing is beyond these stand-ins
	ctx := t.Context()
	doc, devices := demotest.Attic(t, o.Service)
	r := move.Request{Title: "The attic", Night: time.Now().Add(time.Hour), OneNight: true}
	for i, n := range doc.Networks {
		r.Shifts = append(r.Shifts, move.Shift{Network: n.ID, VLAN: n.VLAN + 100,
			Prefix: netip.MustParsePrefix(fmt.Sprintf("127.30.%d.0/24", 110+10*i))})
	}
	id, err := o.Moves.BeginMove(ctx, o.mk, "attic-house", r)
	require.NoError(t, err)
	m := o.move(id)
	require.Len(t, m.Phases, 1)
	proof := m.Phases[0].Proof
	assert.Equal(t, 4, proof.Devices)
	t.Logf("%d steps, %s first, %s last; console: %q; gaps: %v", proof.Steps, proof.First, proof.Last, proof.Console,
		proof.Gaps)
	assert.Contains(t, []string{"sw-attic-east", "sw-attic-west"}, proof.First, "the farthest first")
	assert.Equal(t, "rt-attic", proof.Last)
	require.Len(t, m.Visits, 1)
	assert.Equal(t, "127.30.150.20", m.Visits[0].Will.String())

	held := map[string]yang.Config{}
	for name, d := range devices {
		held[name] = d.Running()
	}
	swap := m.Phases[0].Order
	require.NoError(t, o.Pushes.SetWindow(ctx, o.mk, swap, push.WindowEntry{}))
	devices["dev-attic-core"].Inject(standin.Faults{ConfirmsFull: 9})
	require.NoError(t, o.pushAll(o.Service, swap))
	v := o.waitPush(o.Service, swap)
	require.Equal(t, "failed", v.Push.State, "the core switch cannot keep it")
	for name, d := range devices {
		assert.True(t, d.Running().Equal(held[name]), name)
	}
	for turn := 0; ; turn++ {
		devices["dev-attic-core"].Inject(standin.Faults{ResetWrite: 2 + turn})
		require.NoError(t, o.pushAll(o.Service, swap))
		v = o.waitPush(o.Service, swap)
		if v.Push.State == "landed" || turn == 3 {
			break
		}
	}
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	after := o.document("attic-house")
	for name, d := range devices {
		assert.True(t, d.Running().Equal(compile.Device(after, name)), name)
	}
	rows, err := o.Store.Access(ctx, doc.ID)
	require.NoError(t, err)
	for _, a := range rows {
		if name := a.DeviceID; name != "dev-attic-rt" {
			assert.Contains(t, a.URL, "//127.30.110.", name)
		}
	}
	require.NoError(t, o.Moves.CarryMovesOn(ctx))
	assert.Equal(t, "done", o.move(id).State)
}

// Pressed twice at once, a move is taken back once: the other is told so, and nothing is left half done.
func Test05AMoveIsTakenBackOnce(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id, err := o.Moves.BeginMove(t.Context(), o.mk, "moss-end", theatre())
	require.NoError(t, err)
	m := o.move(id)
	o.landPhase(m.Phases[0])
	const presses = 4
	errs := make(chan error, presses)
	for range presses {
		go func() {
			_, err := o.Moves.TakeMoveBack(t.Context(), o.mk, id)
			errs <- err
		}()
	}
	done := 0
	for range presses {
		err := <-errs
		var refused *actor.Refusal
		switch {
		case err == nil:
			done++
		case assert.ErrorAs(t, err, &refused):
			assert.Equal(t, actor.Conflict, refused.Kind, "%v", err)
		}
	}
	assert.Equal(t, 1, done)
	stages := map[string]int{}
	for _, p := range o.move(id).Phases {
		stages[p.Stage]++
	}
	assert.Equal(t, 2, stages["dropped"], "%v", stages)
	assert.Len(t, o.move(id).Phases, 4, "one way back")
}
