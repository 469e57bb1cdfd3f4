package store_test

import (
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/drift"
	"lithos/core/observed"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// What is known beside a site is read at once, and is the same as read one by one.
func TestWhatIsKnownBesideASite(t *testing.T) {
	d := demotest.NewDesk(t, "quill-street")
	ctx, s, id := t.Context(), d.Store, d.Doc.ID
	other := d.Twin()
	const router = "dev-quill-rt"
	opened := d.Order()
	require.True(t, d.Poll.ReadDevices(ctx, id))
	began := time.Now().Add(-time.Hour).Truncate(time.Millisecond)
	a := netip.MustParseAddr("198.51.100.7")
	w := site.Following{ID: "f", Uplink: "if-quill-wan"}
	require.NoError(t, s.PastLine(ctx, id, w, a, true, began, began.Add(time.Minute)))
	require.NoError(t, s.PastLine(ctx, id, w, a.Next(), false, began.Add(time.Minute), began.Add(2*time.Minute)))
	require.NoError(t, s.NoteFollowingRead(ctx, gen.NoteFollowingReadParams{SiteID: id, FollowingID: "f", Type: "A",
		Data: []string{a.String()}}))
	require.NoError(t, s.NoteZone(ctx, gen.NoteZoneParams{SiteID: id, ZoneID: "zone-quill-out", Serial: 7,
		Records: []byte(`[{"owner":"www","type":"A","data":"192.0.2.1"}]`)}))
	fresh, err := s.NoteServer(ctx, gen.NoteServerParams{SiteID: id, DeviceID: router, Interface: "lan", Address: a,
		Mac: net.HardwareAddr{2, 0, 0, 0, 0, 1}, LastAt: time.Now()})
	require.NoError(t, err)
	assert.True(t, fresh)
	require.NoError(t, s.KeepMeant(ctx, id, "A title", order.Meant{Finding: "f1", Facts: "x", Reason: "so"}, d.MK.ID))
	keep := func(kind string, version int32, doc string) error {
		return s.KeepLevel(ctx, d.MK, store.KeptLevel{Kind: kind, ID: "cust-quill", Name: "Quill", Version: version,
			Doc: []byte(doc)})
	}
	require.NoError(t, keep(store.LevelCustomer, 0, `{"id":"cust-quill","name":"Quill"}`))
	require.NoError(t, keep(store.LevelCustomer, 1, `{"id":"cust-quill","name":"Quill Street"}`))
	demotest.Refused(t, keep(store.LevelCustomer, 1, `{}`), actor.Conflict, "changed it meanwhile")

	b, err := s.Beside(ctx, id, d.Doc.Customer.Name)
	require.NoError(t, err)
	access, err := s.Access(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, access, b.Access)
	require.Len(t, access, 2)
	for _, one := range access {
		assert.Nil(t, one.Running, "what it holds is what it was given")
		require.NotNil(t, one.ReadAt, one.Problem)
	}
	zones, err := s.Zones(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, zones, b.Zones)
	require.Len(t, zones, 1)
	assert.EqualValues(t, 7, zones[0].Serial)
	assert.Equal(t, "www", zones[0].Records[0].Owner)
	lines, err := s.Lines(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, lines, b.Lines)
	require.Len(t, lines, 3, "the first is the one it has")
	assert.Equal(t, []netip.Addr{a, a.Next()}, []netip.Addr{lines[1].Address, lines[2].Address})
	require.Len(t, b.Sent, 1, "the second was not told")
	assert.Equal(t, a, b.Sent[0].Address)
	require.Len(t, b.Read, 1)
	assert.Equal(t, []string{a.String()}, b.Read[0].Data)
	require.Len(t, b.Orders, 1)
	assert.Equal(t, opened, b.Orders[0].ID)
	require.Len(t, b.Meant, 1)
	assert.Equal(t, "Maren Kolb", b.Meant[0].By)
	require.Len(t, b.Servers, 1)
	assert.Equal(t, a, b.Servers[0].Address)
	require.NotNil(t, b.Shared.Customer)
	assert.Equal(t, "Quill Street", b.Shared.Customer.Name)
	require.NotNil(t, b.Shared.Standard)
	assert.Equal(t, "Home lab standard", b.Shared.Standard.Name)

	require.Len(t, b.Neighbors, 1)
	n := b.Neighbors[0]
	assert.Equal(t, []string{other.ID, "thrush.home.arpa"}, []string{n.ID, n.Domain})
	assert.Len(t, n.Networks, len(other.Networks))
	assert.Contains(t, n.Outside, "quill.example")
	all, err := s.Neighbors(ctx, d.Doc.Customer.Name)
	require.NoError(t, err)
	assert.Len(t, all, 2, "of all sites of the customer")
	there, err := s.Beside(ctx, other.ID, d.Doc.Customer.Name)
	require.NoError(t, err)
	require.Len(t, there.Access, 2)
	assert.Equal(t, "dev-thrush-rt", there.Access[0].DeviceID)
	assert.Empty(t, there.Orders)
	require.Len(t, there.Neighbors, 1)
	assert.Equal(t, id, there.Neighbors[0].ID)

	title, err := s.ForgetMeant(ctx, id, "f1")
	require.NoError(t, err)
	assert.Equal(t, "A title", title)
	_, err = s.ForgetMeant(ctx, id, "f1")
	require.ErrorIs(t, err, store.ErrNotFound)
	for _, want := range []int64{1, 0} {
		n, err := s.DropAccess(ctx, id, router)
		require.NoError(t, err)
		assert.Equal(t, want, n)
	}
}

// A lease says whether it is bound and until when.
func TestWhatDevicesHeard(t *testing.T) {
	d := demotest.NewDesk(t, "quill-street")
	ctx, id := t.Context(), d.Doc.ID
	until := time.Now().Add(time.Hour).Truncate(time.Millisecond)
	for i, mac := range []net.HardwareAddr{{2, 0, 0, 0, 0, 1}, {2, 0, 0, 0, 0, 2}} {
		rows := d.Store.PutSighting(ctx, []gen.PutSightingParams{{SiteID: id, DeviceID: "dev-quill-rt", Source: "lease",
			Address: netip.AddrFrom4([4]byte{10, 7, 7, byte(100 + i)}), Mac: mac, ClientID: []byte{},
			State: []string{"bound", "offered"}[i], Last: time.Now(),
			Expires: []*time.Time{&until, nil}[i]}})
		rows.Exec(func(_ int, err error) { require.NoError(t, err) })
	}
	seen, err := d.Store.Heard(ctx, id)
	require.NoError(t, err)
	require.Len(t, seen, 2)
	byMAC := map[string]observed.Heard{}
	for _, h := range seen {
		byMAC[h.MAC.String()] = h
	}
	assert.True(t, byMAC["02:00:00:00:00:01"].Bound)
	assert.WithinDuration(t, until, byMAC["02:00:00:00:00:01"].Expires, time.Millisecond)
	assert.False(t, byMAC["02:00:00:00:00:02"].Bound)
	assert.True(t, byMAC["02:00:00:00:00:02"].Expires.IsZero())
}

// Each form of a device's configuration is kept once, and how much is otherwise is counted without what Lithos did not
// put there.
func TestConfigurationsAreKept(t *testing.T) {
	d := demotest.NewDesk(t, "quill-street")
	ctx, id := t.Context(), d.Doc.ID
	const router = "dev-quill-rt"
	_, found, err := d.Store.Config(ctx, id, router, 0)
	require.NoError(t, err)
	assert.False(t, found)
	note := func(name string, differs ...drift.Difference) int {
		was, err := store.NoteHeld(ctx, d.Store.Queries, id, router, store.Holding{
			Config: yang.Config{DHCP: yang.DHCPServer{Pool: []yang.Pool{{ID: "p", Name: name}}}}, Differs: differs,
			Cuts: []check.Cut{}, Tag: "tag " + name, JudgedOn: 1})
		require.NoError(t, err)
		return was
	}
	assert.Zero(t, note("a", drift.Difference{}, drift.Difference{}, drift.Difference{Beside: true}))
	assert.Equal(t, 2, note("b"))
	assert.Zero(t, note("b", drift.Difference{Beside: true}))
	kept, err := d.Store.Configs(ctx, id, router)
	require.NoError(t, err)
	require.Len(t, kept, 2)
	raw, found, err := d.Store.Config(ctx, id, router, 0)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Contains(t, string(raw), `"b"`)
	raw, _, err = d.Store.Config(ctx, id, router, kept[1].ID)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"a"`)
	access, err := d.Store.Access(ctx, id)
	require.NoError(t, err)
	for _, a := range access {
		if a.DeviceID == router {
			assert.Equal(t, "tag b", a.Tag)
			assert.EqualValues(t, 1, a.JudgedOn)
			assert.Zero(t, a.Drifted)
			require.NotNil(t, a.Running, "it holds what Lithos did not put there")
			assert.Equal(t, "b", a.Running.DHCP.Pool[0].Name)
		}
	}
}

// What is known of the dynamic names of all sites is the same as what is known of each.
func TestFollowedNamesOfAllSites(t *testing.T) {
	d := demotest.NewDesk(t, "quill-street")
	ctx := t.Context()
	other := d.Twin()
	for _, doc := range []*site.Site{d.Doc, other} {
		raw, err := site.Encode(doc)
		require.NoError(t, err)
		next, err := site.Read(strings.NewReader(string(raw)))
		require.NoError(t, err)
		uplink := next.Devices[0].Interfaces[0].ID
		next.Following = []site.Following{{ID: "f-" + doc.Code, Name: "remote.quill.example", Uplink: uplink,
			Enabled: true}}
		_, err = d.Sites.Import(ctx, next, 0, "with a name")
		require.NoError(t, err)
		for n := range 3 {
			a := netip.AddrFrom4([4]byte{198, 51, 100, byte(n)})
			at := time.Now().Add(time.Duration(n-5) * time.Hour)
			require.NoError(t, d.Store.PastLine(ctx, doc.ID, next.Following[0], a, n > 0, at, at.Add(time.Hour)))
		}
		require.NoError(t, d.Store.NoteFollowingRead(ctx, gen.NoteFollowingReadParams{SiteID: doc.ID,
			FollowingID: next.Following[0].ID, Type: "A", Data: []string{doc.Code}}))
	}
	rows, err := d.Store.Followed(ctx)
	require.NoError(t, err)
	sites, err := rows.Sites(true)
	require.NoError(t, err)
	require.Len(t, sites, 2)
	for _, f := range sites {
		b, err := d.Store.Beside(ctx, f.Site.ID, f.Site.Customer.Name)
		require.NoError(t, err)
		assert.Equal(t, b.Lines, f.Beside.Lines)
		assert.Len(t, f.Beside.Lines, 3)
		assert.Equal(t, b.Sent, f.Beside.Sent)
		assert.Len(t, f.Beside.Sent, 2)
		assert.Equal(t, b.Read, f.Beside.Read)
		assert.Equal(t, []string{f.Site.Code}, f.Beside.Read[0].Data)
		assert.Len(t, f.Beside.Access, len(b.Access))
		assert.True(t, f.Beside.Documents)
		assert.Equal(t, "f-"+f.Site.Code, f.Site.Following[0].ID)
	}
}

// A site is found by its code, an order and a revision by their numbers; a database that is restored is another one.
func TestWhatIsFound(t *testing.T) {
	d := demotest.NewDesk(t, "quill-street")
	ctx, id := t.Context(), d.Doc.ID
	row, err := d.Store.Site(ctx, d.Doc.Code)
	require.NoError(t, err)
	assert.Equal(t, store.Site{ID: id, Code: d.Doc.Code, Name: d.Doc.Name, Customer: d.Doc.Customer.Name, Head: 1}, row)
	_, err = d.Store.Site(ctx, "nowhere")
	demotest.Refused(t, err, actor.Missing, `no site "nowhere"`)
	o, err := d.Store.Order(ctx, d.Order())
	require.NoError(t, err)
	assert.Equal(t, []string{id, "Refit", "4471", "Maren Kolb"}, []string{o.SiteID, o.Title, o.Ticket, o.Opener})
	assert.Zero(t, o.Lead)
	_, err = d.Store.Order(ctx, 99)
	require.ErrorIs(t, err, store.ErrNotFound)
	d.Revise(func(s *site.Site) { s.FixedDevices = nil })
	last, err := d.Store.LastWith(ctx, id, "fix-quill-hyper")
	require.NoError(t, err)
	assert.EqualValues(t, 1, last)
	last, err = d.Store.LastWith(ctx, id, "none")
	require.NoError(t, err)
	assert.Zero(t, last)
	ages, err := d.Store.NameAges(ctx, id)
	require.NoError(t, err)
	assert.NotEmpty(t, ages)
	for _, at := range ages {
		assert.WithinDuration(t, time.Now(), at, time.Minute)
	}
	one, err := d.Store.Identity(ctx)
	require.NoError(t, err)
	again, err := d.Store.Identity(ctx)
	require.NoError(t, err)
	assert.Equal(t, one, again)
	other, err := open(t).Identity(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, one, other)
	columns, err := d.Store.RememberedColumns(ctx, "ip|mac")
	require.NoError(t, err)
	assert.Nil(t, columns)
	for _, say := range [][]string{{"address", "mac"}, {"address", ""}} {
		require.NoError(t, d.Store.RememberColumns(ctx, d.MK.ID, "ip|mac", say))
		columns, err = d.Store.RememberedColumns(ctx, "ip|mac")
		require.NoError(t, err)
		assert.Equal(t, say, columns)
	}
	addresses := d.Store.Addresses()
	require.Len(t, addresses, 1)
	assert.True(t, addresses[0].Addr().IsLoopback())
	jobs, err := d.Store.JobsByState(ctx)
	require.NoError(t, err)
	assert.Empty(t, jobs)
}

// People are told what was refused, and not what the database says of itself.
func TestWhatPeopleAreToldOfAnError(t *testing.T) {
	s := open(t)
	var none string
	unkeepable := s.Pool.QueryRow(t.Context(), "SELECT $1::text", "a\x00b").Scan(&none)
	require.Error(t, unkeepable)
	assert.True(t, store.IsUnkeepable(unkeepable))
	wrong := s.Pool.QueryRow(t.Context(), "SELECT nothing").Scan(&none)
	assert.False(t, store.IsUnkeepable(wrong))
	assert.Contains(t, store.ForPeople(wrong), "server's log")
	assert.Contains(t, store.ForPeople(&pgconn.ConnectError{}), "server's log")
	assert.Equal(t, "not found", store.ForPeople(store.ErrNotFound))
}
