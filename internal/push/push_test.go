package push_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/push"
	"lithos/internal/standin"
)

const router = "dev-quill-rt"

// head is the newest revision of the desk's site.
func head(d *demotest.Desk) int32 {
	row, err := d.Store.Site(d.Context(), d.Doc.Code)
	require.NoError(d, err)
	return row.Head
}

// shorter is an order that makes the pool of the lab shorter by ten addresses.
func shorter(d *demotest.Desk) int64 {
	id := d.Order()
	d.Edit(id, demotest.Entry("pool", "pool-quill-lab", "ranges", "100-139"))
	return id
}

// What lands is on the device, saved, and the next revision; who did it is on record.
func TestPushLands(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.RunJobs()
	before, id := head(d), shorter(d)
	wanted := compile.Device(d.Draft(id), router)
	v := d.Push(id)
	require.Equal(t, "landed", v.State, v.Problem)
	assert.Equal(t, "Maren Kolb", v.By)
	assert.NotEmpty(t, v.Journal)
	assert.Empty(t, v.Silent)
	assert.Equal(t, wanted.DHCP, d.Devices[router].Running().DHCP)
	assert.Equal(t, wanted.DHCP, d.Devices[router].Startup().DHCP, "it holds over a restart")
	assert.Equal(t, before+1, head(d))
	doc, err := d.Sites.Export(t.Context(), d.Doc.Code)
	require.NoError(t, err)
	assert.Equal(t, wanted, compile.Device(doc, router))
	_, err = d.Pushes.Push(t.Context(), d.MK, id, d.Version(id))
	demotest.Refused(t, err, actor.Conflict, "")
}

// Whatever goes wrong at a device, in the end it holds all of the old or all of the new, running and saved, and the
// revision says which.
func TestFaultsLeaveOldOrNew(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		fault standin.Faults
		state string // "" where either may be
	}{
		"a write is refused":                {standin.Faults{RefuseWrite: 1}, "failed"},
		"the answer to a write is lost":     {standin.Faults{DropWrite: 1}, ""},
		"a write is reset":                  {standin.Faults{ResetWrite: 1}, ""},
		"a confirm has no room":             {standin.Faults{ConfirmsFull: 1}, ""},
		"no confirm ever has room":          {standin.Faults{ConfirmsFull: 1000}, "failed"},
		"a confirm is lost":                 {standin.Faults{SettlesLost: 1}, ""},
		"the answer to a confirm is lost":   {standin.Faults{SettleAnswersLost: 1}, "landed"},
		"an answer breaks off":              {standin.Faults{Cut: 40}, ""},
		"an answer is no document":          {standin.Faults{Garbage: 1}, ""},
		"a restart at a write":              {standin.Faults{Restart: 1, Away: 10 * time.Millisecond}, ""},
		"answers are slow":                  {standin.Faults{Slow: 20 * time.Millisecond}, "landed"},
		"no client gets an answer for DHCP": {standin.Faults{Deaf: true}, "failed"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := demotest.NewDesk(t, "quill-street")
			d.Service.Pushes.Timing.ConfirmWithin = 3 * time.Second
			d.RunJobs()
			before, id := head(d), shorter(d)
			old, wanted := d.Devices[router].Running(), compile.Device(d.Draft(id), router)
			d.Rehearse(id)
			d.Devices[router].Inject(c.fault)
			_, err := d.Pushes.Push(t.Context(), d.MK, id, d.Version(id))
			require.NoError(t, err)
			v := d.Ended(id)
			d.Devices[router].Inject(standin.Faults{})
			if c.state != "" {
				assert.Equal(t, c.state, v.State, v.Problem)
			}
			after, held := old, before
			if v.State == "landed" {
				after, held = wanted, before+1
			} else {
				assert.NotEmpty(t, v.Problem)
			}
			assert.Equal(t, held, head(d))
			assert.Eventually(t, func() bool {
				return assert.ObjectsAreEqual(after.DHCP, d.Devices[router].Running().DHCP) &&
					assert.ObjectsAreEqual(after.DHCP, d.Devices[router].Startup().DHCP)
			}, 20*time.Second, 10*time.Millisecond, v.State)
		})
	}
}

// Nothing is pushed that was not rehearsed as it stands, or that another has changed meanwhile.
func TestPushIsRefused(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.RunJobs()
	id := d.Order()
	try := func(by actor.Technician, version int32) error {
		_, err := d.Pushes.Push(t.Context(), by, id, version)
		return err
	}
	demotest.Refused(t, try(d.MK, d.Version(id)), actor.Conflict, "no edits")
	d.Edit(id, demotest.Entry("pool", "pool-quill-lab", "ranges", "100-139"))
	seen := d.Version(id)
	demotest.Refused(t, try(d.MK, seen), actor.Conflict, "was not rehearsed")
	d.Rehearse(id)
	d.Edit(id, demotest.Entry("pool", "pool-quill-lab", "ranges", "100-138"))
	demotest.Refused(t, try(d.Jo, seen), actor.Conflict, "meanwhile")
	demotest.Refused(t, try(d.MK, d.Version(id)), actor.Conflict, "since its last change")
	assert.Nil(t, must(d.Pushes.Latest(t.Context(), id)), "nothing was begun")
	require.Equal(t, "landed", d.Push(id).State)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// An order that waits starts when its window opens, not before, and not long after.
func TestWindow(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	d.RunJobs()
	id := shorter(d)
	d.Rehearse(id)
	demotest.Refused(t, d.Pushes.Wait(t.Context(), d.MK, id, d.Version(id), true), actor.Conflict,
		"change window opens")
	opens := time.Now().Add(time.Hour).In(d.Doc.Location())
	require.NoError(t, d.Pushes.SetWindow(t.Context(), d.MK, id, push.WindowEntry{
		NotBefore: opens.Format("2006-01-02T15:04"), NotAfter: opens.Add(time.Hour).Format("2006-01-02T15:04")}))
	_, err := d.Pushes.Push(t.Context(), d.MK, id, d.Version(id))
	demotest.Refused(t, err, actor.Conflict, "window")
	require.NoError(t, d.Pushes.Wait(t.Context(), d.MK, id, d.Version(id), true))
	due, err := d.Pushes.Due(t.Context())
	require.NoError(t, err)
	assert.Nil(t, due, "its window is not open yet")
	_, err = d.Store.Pool.Exec(t.Context(),
		"UPDATE work_order SET not_before = now() - interval '1 minute' WHERE id = $1", id)
	require.NoError(t, err)
	due, err = d.Pushes.Due(t.Context())
	require.NoError(t, err)
	require.NotNil(t, due)
	require.NoError(t, d.Pushes.StartWaiting(t.Context()))
	assert.Equal(t, "landed", d.Ended(id).State)
	due, err = d.Pushes.Due(t.Context())
	require.NoError(t, err)
	assert.Nil(t, due)
}

// A rehearsal says of each known client what it would get, in pages, and shows the reply octet by octet.
func TestRehearsalOfClients(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	d.Edit(id, demotest.Entry("reservation", "res-quill-nas", "address", ".21"))
	d.Rehearse(id)
	page, err := d.Pushes.RehearsedClients(t.Context(), id, true, 0)
	require.NoError(t, err)
	require.NotEmpty(t, page.Clients)
	moved := page.Clients[0]
	assert.Equal(t, "nas", moved.Name)
	reply, err := d.Pushes.RehearsedReply(t.Context(), id, moved.Seq)
	require.NoError(t, err)
	assert.Equal(t, "10.7.7.21", reply.Your)
	_, err = d.Pushes.RehearsedReply(t.Context(), id, 99999)
	demotest.Refused(t, err, actor.Missing, "")
}
