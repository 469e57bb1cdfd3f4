package work_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/yang"
	"lithos/internal/draft"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/sites"
	"lithos/internal/work"
)

// byHand changes the running configuration of a device as somebody at its console does.
func (o *office) byHand(device string, change func(c *yang.Config)) {
	d := o.devices.ByID[device]
	held := d.Running()
	change(&held)
	require.NoError(o.t, d.Set(held))
	row, err := o.Store.Site(o.t.Context(), "kelder-bridge")
	require.NoError(o.t, err)
	o.Poll.Observe(o.t.Context(), row.ID)
}

func widen(c *yang.Config) {
	c.DHCP.Pool = slices.Clone(c.DHCP.Pool)
	for i := range c.DHCP.Pool {
		if p := &c.DHCP.Pool[i]; p.Name == "Clinic PCs" {
			p.Range = slices.Clone(p.Range)
			p.Range[0].Start = p.Range[0].Start.Prev()
		}
	}
}

func (o *office) drift(id int64) *work.Drift {
	v, err := o.Drift(o.t.Context(), "kelder-bridge", "dev-gw-1", id, 0)
	require.NoError(o.t, err)
	return v
}

// reserve is a new reservation.
func reserve(network, name, at, mac string) draft.Change {
	return draft.Change{Entries: []edit.Entry{{Kind: "reservation", New: true, Fields: map[string]string{
		"network": network, "name": name, "address": at, "mac": mac}}}}
}

func rulesOf(o *office, id int64) []string {
	var out []string
	for _, f := range o.page("kelder-bridge", id).Judgement.Findings {
		out = append(out, f.Rule)
	}
	return out
}

// A device that somebody changed by hand is noticed; a push to it is refused until the difference is decided; adopted,
// it is the site's and the device stays as it is; the history tells both.
func TestAChangeByHandIsNoticedAndAdopted(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.byHand("dev-gw-1", widen)
	assert.Contains(t, rulesOf(o, 0), "drifted")
	d := o.drift(0)
	require.Len(t, d.Differences, 1)
	assert.Equal(t, "pool Clinic PCs, range", d.Differences[0].What)
	assert.Positive(t, d.Same)
	assert.NotEmpty(t, d.Differences[0].Writing)
	assert.Contains(t, d.Differences[0].Adopts, "Clinic PCs")

	id := o.at("kelder-bridge")
	o.edit(id, reserve("net-clinic", "scale", "10.84.18.210", "00:00:5e:00:53:d1"))
	require.ErrorContains(t, o.pushAll(o.Service, id), "gw-1 was changed, and not by Lithos")

	_, err := o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1",
		work.Decision{Order: id, Version: o.version(id), Adopt: []string{d.Differences[0].ID}})
	require.NoError(t, err)
	assert.True(t, o.drift(id).Differences[0].Settled)
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Empty(t, o.drift(0).Differences, "the device holds what the site says")
	assert.NotContains(t, rulesOf(o, 0), "drifted")

	feed, err := o.Sites.Happened(t.Context(), o.mk, "kelder-bridge", true)
	require.NoError(t, err)
	var kinds []string
	for _, i := range feed.Items {
		kinds = append(kinds, i.Kind)
		assert.False(t, i.Now)
	}
	assert.Contains(t, kinds, "drifted")
	assert.Contains(t, kinds, "revision")
	feed, err = o.Sites.Happened(t.Context(), o.mk, "kelder-bridge", false)
	require.NoError(t, err)
	for _, i := range feed.Items {
		assert.False(t, i.Fresh, "%s was looked at", i.Title)
	}
}

// Put back, a difference is undone by the push of a work order that changes nothing else, and undo takes the decision
// back.
func TestAChangeByHandIsPutBack(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	was := o.devices.ByID["dev-gw-1"].Running()
	o.byHand("dev-gw-1", func(c *yang.Config) {
		widen(c)
		c.DHCP.Reservation = append(slices.Clone(c.DHCP.Reservation), yang.Reservation{ID: "by-hand", Name: "scale",
			Pool: c.DHCP.Pool[0].ID, Address: netip.MustParseAddr("10.84.18.211"), MAC: address.MAC{0, 0, 94, 0, 83,
				209}})
	})
	d := o.drift(0)
	require.Len(t, d.Differences, 2)
	var ids []string
	for _, one := range d.Differences {
		ids = append(ids, one.ID)
	}
	out, err := o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1", work.Decision{PutBack: ids})
	require.NoError(t, err)
	assert.Equal(t, o.version(out.Order), out.Version)
	v, err := o.Order(t.Context(), out.Order)
	require.NoError(t, err)
	require.Len(t, v.Steps, 1)
	assert.Contains(t, v.Steps[0].Says, "Put back pool Clinic PCs, range")
	assert.Equal(t, []string{"gw-1"}, v.Head.Devices)
	require.Len(t, v.Plans, 1)
	assert.Len(t, v.Plans[0].Steps, 2, "%v", v.Plans[0].Steps)

	_, err = o.Drafts.Undo(t.Context(), o.mk, out.Order, v.Head.Version, false)
	require.NoError(t, err)
	assert.False(t, o.drift(out.Order).Differences[0].PutBack)
	_, err = o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1",
		work.Decision{Order: out.Order, Version: o.version(out.Order), PutBack: ids})
	require.NoError(t, err)
	require.NoError(t, o.pushAll(o.Service, out.Order))
	v = o.waitPush(o.Service, out.Order)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.True(t, o.devices.ByID["dev-gw-1"].Running().Equal(was), "the device holds what it was given")
}

// What somebody changes between the last reading and the push is found by the push, which touches nothing.
func TestAChangeByHandJustBeforeThePush(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	id := o.at("kelder-bridge")
	o.edit(id, reserve("net-clinic", "scale", "10.84.18.210", "00:00:5e:00:53:d1"))
	_, err := o.Pushes.Rehearse(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	held := o.devices.ByID["dev-gw-1"].Running()
	widen(&held)
	require.NoError(t, o.devices.ByID["dev-gw-1"].Set(held))
	_, err = o.Pushes.Push(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	v := o.waitPush(o.Service, id)
	require.Equal(t, "failed", v.Push.State)
	assert.Contains(t, v.Push.Problem, "gw-1 was changed, and not by Lithos")
	assert.True(t, o.devices.ByID["dev-gw-1"].Running().Equal(held), "nothing was touched")
	feed, err := o.Sites.Happened(t.Context(), o.mk, "kelder-bridge", false)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(feed.Items, func(i sites.Item) bool { return i.Kind == "returned" }))
}

// A form of a configuration that was kept is brought back as a work order.
func TestAKeptConfigurationIsBroughtBack(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	row, err := o.Store.Site(t.Context(), "kelder-bridge")
	require.NoError(t, err)
	o.Poll.Observe(t.Context(), row.ID)
	o.byHand("dev-gw-1", widen)
	d := o.drift(0)
	require.Len(t, d.Configurations, 2)
	first := d.Configurations[1].ID
	adopted, err := o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1",
		work.Decision{Adopt: []string{d.Differences[0].ID}})
	require.NoError(t, err)
	require.NoError(t, o.pushAll(o.Service, adopted.Order))
	require.Equal(t, "landed", o.waitPush(o.Service, adopted.Order).Push.State)

	old, err := o.Drift(t.Context(), "kelder-bridge", "dev-gw-1", 0, first)
	require.NoError(t, err)
	require.Len(t, old.Differences, 1)
	back, err := o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1",
		work.Decision{Configuration: first, Adopt: []string{old.Differences[0].ID}})
	require.NoError(t, err)
	v, err := o.Order(t.Context(), back.Order)
	require.NoError(t, err)
	assert.Equal(t, "Bring back what gw-1 held", v.Head.Title)
	assert.Len(t, v.Steps, 1)
}

// A DHCP server that nobody recorded is found by a test client and by the reading.
func TestAStrayServerIsFound(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	stray, err := o.devices.Fabric("kelder-bridge").PlugIn(24, address.MAC{0, 0, 94, 0, 83, 222},
		netip.MustParsePrefix("10.84.18.250/23"), netip.MustParseAddr("10.84.19.200"),
		netip.MustParseAddr("10.84.19.209"))
	require.NoError(t, err)
	defer stray.Close()
	out, err := o.Poll.Try(t.Context(), "kelder-bridge", poll.TryRequest{Network: "net-clinic", Against: "device"})
	require.NoError(t, err)
	assert.Equal(t, []string{"10.84.18.250"}, out.Strangers)
	assert.Contains(t, rulesOf(o, 0), "unknown-server")
	feed, err := o.Sites.Happened(t.Context(), o.mk, "kelder-bridge", false)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(feed.Items, func(i sites.Item) bool { return i.Kind == "server" }))
}

// What somebody takes away by hand at a device is told with what it means: which network has no service, in the
// findings of the site, on the drift page for all and for each, and in the rehearsal; what puts it back climbs that
// network's ladder. The same is so of a device of which nobody's part is the difference.
func Test38ADifferenceSaysWhomItCutsOff(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.byHand("dev-gw-1", func(c *yang.Config) {
		c.Interfaces.Interface = slices.Clone(c.Interfaces.Interface)
		for i := range c.Interfaces.Interface {
			if f := &c.Interfaces.Interface[i]; f.Name == "lan.24" {
				f.Permit = []string{"dns", "ping"}
			}
		}
	})
	d := o.drift(0)
	require.Len(t, d.Differences, 1)
	assert.Equal(t, []work.DriftCut{{Network: "Clinic floor", Rung: "lease",
		Says: "lan.24 blocks DHCP"}}, d.Cuts)
	assert.Equal(t, d.Cuts, d.Differences[0].Mends, "put back, it has service again")
	require.NotEmpty(t, d.Differences[0].Moves, "clients that nobody answers are told something")
	assert.NotEmpty(t, d.Differences[0].Moves[0].After)
	i := slices.IndexFunc(o.page("kelder-bridge", 0).Judgement.Findings, func(f check.Finding) bool {
		return f.Rule == check.Drifted && f.Network == "net-clinic"
	})
	assert.GreaterOrEqual(t, i, 0, "the network is marked")

	out, err := o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1",
		work.Decision{PutBack: []string{d.Differences[0].ID}})
	require.NoError(t, err)
	v, err := o.Pushes.Rehearse(t.Context(), o.mk, out.Order, out.Version)
	require.NoError(t, err)
	assert.Positive(t, v.Report.Moving)
	require.NoError(t, o.pushAll(o.Service, out.Order))
	pushed := o.waitPush(o.Service, out.Order)
	require.Equal(t, "landed", pushed.Push.State, pushed.Push.Problem)
	assert.True(t, slices.ContainsFunc(pushed.Push.Journal, func(e push.JournalEntry) bool {
		return strings.HasPrefix(e.Says, "Lease on Clinic floor: a new client gets")
	}), "%v", pushed.Push.Journal)
	assert.Empty(t, o.drift(0).Cuts)
}

// Of two relays that were taken away, putting one back is about the clients behind it: those behind the other have what
// they had before and after.
func Test38EachDifferenceIsAboutItsOwnClients(t *testing.T) {
	o := open(t)
	o.exec(`INSERT INTO sighting (site_id, device_id, source, address, mac, client_id, name, vendor_class, pool, state,
		port,
			first, last, expires)
		SELECT 'site-moss-end', 'dev-moss-srv', 'lease', address::inet, mac::macaddr, '', 'tablet', '', pool, 'bound',
			'', now(), now(), now() + interval '4 hours'
		FROM (VALUES ('10.84.50.60', '00:00:5e:00:53:f1', 'pool-moss-ward'),
			('10.84.52.24', '00:00:5e:00:53:f2', 'pool-moss-theatre')) v (address, mac, pool)`)
	o.Poll.Observe(t.Context(), "site-moss-end")
	sw := o.devices.ByID["dev-moss-sw"]
	held := sw.Running()
	held.Relays.Relay = nil
	require.NoError(t, sw.Set(held))
	o.Poll.Observe(t.Context(), "site-moss-end")
	d, err := o.Drift(t.Context(), "moss-end", "dev-moss-sw", 0, 0)
	require.NoError(t, err)
	require.Len(t, d.Differences, 2)
	for i, prefix := range []string{"10.84.50.", "10.84.52."} {
		require.NotEmpty(t, d.Differences[i].Moves, d.Differences[i].What)
		for _, m := range d.Differences[i].Moves {
			assert.NotEmpty(t, m.After, "%s: %+v", d.Differences[i].What, m)
			if strings.HasPrefix(m.After, "10.") {
				assert.True(t, strings.HasPrefix(m.After, prefix), "%s: %+v", d.Differences[i].What, m)
			}
		}
	}
}

// A client that is tried on the devices tells what was tried: with a relay, a permit or a trunk taken away by hand it
// has no address, what comes after was not tried, and the cause is what the devices hold.
func Test37ALiveLadderIsWhatWasTried(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	ladder := func(network string) (out []string) {
		r, err := o.Poll.Try(t.Context(), "kelder-bridge", poll.TryRequest{Network: network, Against: "device",
			MAC: "02005e0000ae"})
		require.NoError(t, err)
		for _, rung := range r.Rungs {
			out = append(out, rung.Name+" "+rung.State+" "+rung.Value)
		}
		require.Len(t, out, 7)
		return out
	}
	well := ladder("net-imaging")
	assert.Equal(t, "link pass answered at port3 of sw-ward", well[0])
	assert.Equal(t, "gateway pass 10.84.20.1 answers", well[2])
	assert.Equal(t, "internet pass 192.0.2.1 answers", well[3])
	interfaces := func(name string, change func(i *yang.Interface)) func(c *yang.Config) {
		return func(c *yang.Config) {
			c.Interfaces.Interface = slices.Clone(c.Interfaces.Interface)
			for i := range c.Interfaces.Interface {
				if f := &c.Interfaces.Interface[i]; f.Name == name {
					change(f)
				}
			}
		}
	}
	o.byHand("dev-gw-1", interfaces("wan", func(i *yang.Interface) {
		u := *i.Uplink
		u.Translate, i.Uplink = nil, &u
	}))
	cut := ladder("net-imaging")
	assert.Equal(t, well[:3], cut[:3])
	assert.Equal(t, "internet fail 192.0.2.1 does not answer", cut[3])
	o.byHand("dev-gw-1", interfaces("lan.48", func(i *yang.Interface) { i.Permit = []string{"dns"} }))
	cut = ladder("net-imaging")
	assert.Equal(t, "link skip port3 of sw-ward is up; as nobody answered, no more is known", cut[0])
	assert.Equal(t, "lease fail lan.48 blocks DHCP", cut[1])
	for _, rung := range cut[2:] {
		assert.Contains(t, rung, "skip not tried: it has no lease")
	}
	o.byHand("dev-sw-core", interfaces("uplink1", func(i *yang.Interface) {
		p := *i.Switchport
		p.Tagged, i.Switchport = []int{11, 31, 66, 90}, &p
	}))
	cut = ladder("net-clinic")
	assert.Equal(t, "link fail p1 of gw-1 sends VLAN 24, and uplink1 of sw-core does not take it", cut[0])
	assert.Equal(t, "lease fail No reply within 2 seconds", cut[1])
}
