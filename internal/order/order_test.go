package order_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/order"
)

const quill = "quill-street"

func named(id, name string) edit.Entry {
	return edit.Entry{Kind: site.KindReservation, ID: id, Fields: map[string]string{"name": name}}
}

// A step of up to three edits is told whole; of a longer one the first two and how many more there are. A part that
// is renamed is known by the name it had.
func TestAStepIsPutInWords(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	require.Greater(t, len(s.Reservations), 4)
	var entries []edit.Entry
	for i, r := range s.Reservations[:4] {
		entries = append(entries, named(r.ID, "renamed-"+string(rune('a'+i))))
	}
	says := func(n int) string {
		edits := readAll(t, s, entries[:n])
		after, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		require.Len(t, edits, n)
		return order.Describe(s, after, edits)
	}
	assert.Contains(t, says(1), s.Reservations[0].Name)
	assert.NotContains(t, says(1), ";")
	assert.Equal(t, says(1)+"; ", says(2)[:len(says(1))+2])
	assert.NotContains(t, says(3), "more")
	assert.Equal(t, says(2)+"; 2 more", says(4))
	added, err := edit.Read(s, edit.Entry{Kind: site.KindReservation, ID: "res-new", New: true,
		Fields: map[string]string{
			"network": s.Reservations[0].Network, "name": "a-new-one", "address": "200", "mac": "00:00:5e:00:53:fe"}})
	require.NoError(t, err)
	after, err := edit.Apply(s, added...)
	require.NoError(t, err)
	assert.Contains(t, order.Describe(s, after, added), "a-new-one", "what was not there before has its new name")
}

func TestStepsAreNumberedOn(t *testing.T) {
	s := scenario.Site(quill)
	who := actor.Technician{ID: 7, FullName: "Maren Kolb"}
	d := draftOf(t, s)
	d.Order.Version = 4
	first := d.NextStep(who, s, nil)
	assert.Equal(t, []int32{1, 5}, []int32{first.Seq, first.Version})
	assert.Equal(t, "Maren Kolb", first.By)
	assert.ErrorContains(t, d.MovedOn(), "Somebody changed the draft meanwhile")
	d = draftOf(t, s, order.Step{Seq: 3, Says: "Change a", By: "Jo Weil"}, order.Step{Seq: 8, Says: "Change b",
		By: "Maren Kolb", Undone: true})
	assert.EqualValues(t, 9, d.NextStep(who, s, nil).Seq)
	assert.ErrorContains(t, d.MovedOn(), "Maren Kolb made another edit (Change b)")
	require.Len(t, d.Standing(), 1)
	assert.EqualValues(t, 3, d.Standing()[0].Seq)
}

// An order takes edits while it is open, and says who or what closed it.
func TestAnOrderIsOpen(t *testing.T) {
	require.NoError(t, (&order.Order{State: "open"}).Open())
	for state, says := range map[string]string{"dropped": "WO-0012 was dropped by Jo Weil",
		"pushing": "is being pushed",
		"landed":  "is landed and takes no more"} {
		o := order.Order{ID: 12, State: state, Closer: "Jo Weil"}
		assert.ErrorContains(t, o.Open(), says)
	}
}

// A window is open from its first moment to its last, and its ends are told in the site's own time.
func TestAChangeWindow(t *testing.T) {
	from := time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)
	to := from.Add(time.Hour)
	o := order.Order{NotBefore: &from, NotAfter: &to}
	tokyo, err := time.LoadLocation("Asia/Tokyo")
	require.NoError(t, err)
	require.NoError(t, o.Window(from, tokyo))
	require.NoError(t, o.Window(to, tokyo))
	assert.ErrorContains(t, o.Window(from.Add(-time.Second), tokyo), "opens on 2 March 05:00")
	assert.ErrorContains(t, o.Window(to.Add(time.Second), tokyo), "ended on 2 March 06:00")
}

// What a device holds otherwise keeps a push back until somebody has decided about it, for devices that the draft
// changes and Lithos reaches.
func TestADeviceThatHoldsSomethingElse(t *testing.T) {
	s := scenario.Site(quill)
	gw := s.Devices[0].ID
	held := compile.Device(s, gw)
	require.NotEmpty(t, held.DHCP.Reservation)
	held.DHCP.Reservation = held.DHCP.Reservation[1:]
	access := []order.Access{{DeviceID: "another"}, {DeviceID: gw, Running: &held}}
	change := step(t, s, named(s.Reservations[1].ID, "renamed"))
	d := draftOf(t, s, change)
	targets := d.Targets(access)
	require.Len(t, targets, 1)
	drift := targets[0].Undecided(d)
	require.Len(t, drift, 1)
	h := d.Head(access, nil)
	assert.Contains(t, h.Drifted, "the push would undo 1 thing")
	assert.Equal(t, []string{targets[0].Name}, h.Devices)
	back := order.Step{Seq: 2, Says: "Put it back", PutBack: []order.PutBack{{Device: gw, ID: drift[0].ID}}}
	assert.Empty(t, draftOf(t, s, change, back).Head(access, nil).Drifted)
	back.Undone = true
	assert.NotEmpty(t, draftOf(t, s, change, back).Head(access, nil).Drifted, "the decision was taken back")
	landed := draftOf(t, s, change)
	landed.Order.State = "landed"
	assert.Empty(t, landed.Head(access, nil).Drifted)
	unread := []order.Access{{DeviceID: gw}}
	assert.Empty(t, d.Head(unread, nil).Drifted, "it was never read")
	assert.Empty(t, d.Head(nil, nil).Devices, "Lithos does not reach it")
	list, cuts := order.HeldBy(s, gw, held)
	assert.Len(t, list, 1)
	assert.Empty(t, cuts)
	assert.Equal(t, map[string]yang.Config{gw: held}, order.Configurations(access))
	assert.Equal(t, map[string]yang.Config{gw: held}, d.HeldByTargets(access))
	assert.Empty(t, draftOf(t, s).HeldByTargets(access), "a draft without edits changes no device")
}

// A push changes something of the networks that its edits concern; an option of the site concerns all of them.
func TestTheNetworksOfAPush(t *testing.T) {
	s := scenario.Site(quill)
	r := s.Reservations[1]
	assert.Equal(t, []string{r.Network}, draftOf(t, s, step(t, s, named(r.ID, "renamed"))).Networks(nil))
	all := draftOf(t, s, step(t, s, edit.Entry{Kind: site.KindOption, ID: "42", In: site.Ref{Kind: site.KindSite,
		ID: s.ID}.String(), Fields: map[string]string{"value": "10.7.7.1"}})).Networks(nil)
	assert.Len(t, all, len(s.Networks))
	held := compile.Device(s, s.Devices[0].ID)
	held.DHCP.Reservation = held.DHCP.Reservation[1:]
	by := map[string]yang.Config{s.Devices[0].ID: held}
	lost := order.Target{ID: s.Devices[0].ID, Access: &order.Access{Running: &held}}.Drift(draftOf(t, s))
	require.Len(t, lost, 1)
	back := order.Step{Seq: 1, PutBack: []order.PutBack{{Device: s.Devices[0].ID, ID: lost[0].ID}}}
	assert.Len(t, draftOf(t, s, back).Networks(by), 1, "where it is put back")
	assert.Empty(t, draftOf(t, s, back).Networks(nil), "nobody has read what is put back")
}

// Devices are pushed from what carries frames to what leads outside.
func TestTheOrderOfDevices(t *testing.T) {
	s := scenario.Site("moss-end")
	var entries []edit.Entry
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if len(i.Addresses) > 0 && i.Kind != site.Uplink {
				entries = append(entries, edit.Entry{Kind: site.KindInterface, ID: i.ID,
					In:     site.Ref{Kind: site.KindDevice, ID: d.ID}.String(),
					Fields: map[string]string{"permits": "ping"}})
				break
			}
		}
	}
	rank := map[string]int{site.L2Switch: 0, site.Server: 1, site.L3Switch: 2, site.Router: 3, site.Firewall: 3}
	targets := draftOf(t, s, step(t, s, entries...)).Targets(nil)
	require.Greater(t, len(targets), 1)
	for i := range targets[1:] {
		assert.LessOrEqual(t, rank[targets[i].Kind], rank[targets[i+1].Kind])
	}
}

// An outside zone is a target where its records change, or who holds it; it is written where there is a server and a
// key.
func TestTheZonesOfAPush(t *testing.T) {
	s := scenario.Site(quill)
	assert.Empty(t, draftOf(t, s).Zones())
	record := step(t, s, edit.Entry{Kind: site.KindRecord, ID: "rec-quill-out-cloud", In: "zone:zone-quill-out",
		Fields: map[string]string{"data": "192.0.2.78"}})
	zones := draftOf(t, s, record).Zones()
	require.Len(t, zones, 1)
	assert.Equal(t, "zone-quill-out", zones[0].ID)
	assert.True(t, zones[0].Written())
	assert.Len(t, zones[0].Changes(), 1)
	assert.Contains(t, draftOf(t, s, record).Head(nil, nil).Devices, zones[0].Name)
	moved := draftOf(t, s, step(t, s, edit.Entry{Kind: site.KindZone, ID: "zone-quill-out",
		Fields: map[string]string{"server": "203.0.113.54"}})).Zones()
	require.Len(t, moved, 1)
	assert.Empty(t, moved[0].Changes())
	keyless := zones[0]
	keyless.Key = ""
	assert.False(t, keyless.Written())
	fresh := draftOf(t, s, step(t, s, edit.Entry{Kind: site.KindZone, ID: "zone-new", New: true,
		Fields: map[string]string{
			"name": "fresh.example", "side": site.Outside, "primary": "ns.provider.example"}})).Zones()
	require.Len(t, fresh, 1)
	assert.Empty(t, fresh[0].Base)
	assert.False(t, fresh[0].Written())
}
