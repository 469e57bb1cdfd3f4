package drift_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/drift"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
)

// The site as a device holds it gives the device what it holds, for each change by hand that has a place in a site; the
// rest stays as it was.
func TestAsHeldGivesWhatIsHeld(t *testing.T) {
	for _, h := range hands {
		s, _, held := start(t)
		h.change(t, &held)
		got := compile.Device(drift.AsHeld(s, map[string]yang.Config{firewall: held}), firewall)
		leases := yang.Config{DHCP: got.DHCP} // with a reservation goes its name
		assert.Equal(t, !h.refused, leases.Equal(yang.Config{DHCP: held.DHCP}), h.name)
	}
	s, given, held := start(t)
	assert.Same(t, s, drift.AsHeld(s, map[string]yang.Config{"dev-nobody": held}), "a device that the site has not")
	// What cannot be read is left out, and what comes after it is not.
	held.DHCP.Pool = append(held.DHCP.Pool, yang.Pool{ID: "by-hand", Subnet: netip.MustParsePrefix("192.0.2.0/24")})
	held.DHCP.Reservation = held.DHCP.Reservation[1:]
	got := compile.Device(drift.AsHeld(s, map[string]yang.Config{firewall: held}), firewall)
	assert.Len(t, got.DHCP.Reservation, len(given.DHCP.Reservation)-1)
	assert.Len(t, got.DHCP.Pool, len(given.DHCP.Pool))
}

// What is the same is counted by entries.
func TestSameCountsEntries(t *testing.T) {
	_, given, held := start(t)
	all := drift.Same(given, given)
	assert.Equal(t, len(given.Interfaces.Interface)+len(given.DHCP.Pool)+len(given.DHCP.Reservation)+
		len(given.DHCP.Class)+len(given.Relays.Relay)+len(given.Resolver.Zone)+len(given.Outside.Name)+
		map[bool]int{true: 1}[given.Resolver.Settings != nil], all)
	held.DHCP.Reservation = held.DHCP.Reservation[1:]
	poolNamed(t, &held, "Clinic PCs").Enabled = false
	held.DHCP.Class = append(held.DHCP.Class, yang.Class{ID: "by-hand"})
	assert.Equal(t, all-2, drift.Same(given, held))
	assert.Zero(t, drift.Same(given, yang.Config{}))
}

// clinic is a site with two pools on its network Clinic floor. The network tells its clients of a mail server, and the
// site of one of another kind.
func clinic(t *testing.T) (*site.Site, yang.Config, yang.Config) {
	s, _, _ := start(t)
	i := slices.IndexFunc(s.Networks, func(n site.Network) bool { return n.ID == "net-clinic" })
	s.Networks[i].Options = append(s.Networks[i].Options, site.Option{Code: 70, Value: "10.84.18.9"})
	s.Options = append(s.Options, site.Option{Code: 69, Value: "10.84.18.9"})
	k := slices.IndexFunc(s.Pools, func(p site.Pool) bool { return p.Network == "net-clinic" })
	more := s.Pools[k]
	more.ID, more.Name, more.Exclusions = "pool-more", "More", nil
	more.Ranges = []address.Range{{From: netip.MustParseAddr("10.84.19.240"), To: netip.MustParseAddr("10.84.19.242")}}
	s.Pools = append(s.Pools, more)
	s = site.Normal(s)
	c := compile.Device(s, firewall)
	return s, c, copied(c)
}

// setMail has pools tell of another mail server.
func setMail(t *testing.T, c *yang.Config, code, last byte, pools ...string) {
	for _, name := range pools {
		p := poolNamed(t, c, name)
		i := slices.IndexFunc(p.Option, func(o yang.Option) bool { return o.Code == code })
		require.GreaterOrEqual(t, i, 0)
		p.Option[i].Value, p.Option[i].Always = []byte{10, 84, 18, last}, true
	}
}

// An option that every pool of a network holds alike is adopted for the network, and one that a single pool holds, or
// that they hold differently, for the pools.
func TestAnOptionIsAdoptedWhereItComesFrom(t *testing.T) {
	valueOf := func(list []site.Option) string {
		for _, o := range list {
			if o.Code == 70 {
				return o.Value
			}
		}
		return ""
	}
	for what, c := range map[string]struct {
		hands               func(c *yang.Config)
		network, pool, more string
	}{
		"both alike": {func(c *yang.Config) { setMail(t, c, 70, 7, "Clinic PCs", "More") }, "10.84.18.7", "", ""},
		"one alone": {func(c *yang.Config) { setMail(t, c, 70, 7, "Clinic PCs") }, "10.84.18.9",
			"10.84.18.7", ""},
		"each its own": {func(c *yang.Config) {
			setMail(t, c, 70, 7, "Clinic PCs")
			setMail(t, c, 70, 8,
				"More")
		}, "10.84.18.9", "10.84.18.7", "10.84.18.8"},
	} {
		s, given, held := clinic(t)
		c.hands(&held)
		list := drift.Between(s.Own(), given, held, given)
		require.NotEmpty(t, list, what)
		now, refused := drift.Adopt(s, firewall, held, list)
		assert.Empty(t, refused, what)
		assert.True(t, compile.Device(now, firewall).Equal(held), what)
		n, _ := now.Network("net-clinic")
		k := slices.IndexFunc(now.Pools, func(p site.Pool) bool { return p.Name == "Clinic PCs" })
		more, _ := now.Pool("pool-more")
		assert.Equal(t, []string{c.network, c.pool, c.more}, []string{valueOf(n.Options), valueOf(now.Pools[k].Options),
			valueOf(more.Options)}, what)
	}
}

// Where only what is sent unasked differs, that is said.
func TestSentUnaskedIsSaid(t *testing.T) {
	s, given, held := clinic(t)
	setMail(t, &held, 69, 9, "More")
	list := drift.Between(s.Own(), given, held, given)
	require.Len(t, list, 1)
	assert.Equal(t, []string{"10.84.18.9", "10.84.18.9, sent unasked", "10.84.18.9"},
		[]string{list[0].Pushed, list[0].Running, list[0].Wanted})
	setMail(t, &held, 69, 8, "More")
	list = drift.Between(s.Own(), given, held, given)
	assert.Equal(t, "10.84.18.8", list[0].Running, "another value says enough")
}

// Of many changes at once those that fit are adopted, and each of the others says why not.
func TestManyAtOnce(t *testing.T) {
	s, given, held := start(t)
	poolNamed(t, &held, "Clinic PCs").Interface = "" // does not fit
	poolNamed(t, &held, "Clinic PCs").Enabled = false
	held.DHCP.Reservation[0].Name = "by-hand"
	gone := held.DHCP.Reservation[1].ID
	held.DHCP.Reservation = slices.Delete(held.DHCP.Reservation, 1, 2)
	held.DHCP.Reservation = append(held.DHCP.Reservation, yang.Reservation{ID: "elsewhere", Pool: "pool-nobody",
		Address: netip.MustParseAddr("192.0.2.1")})
	list := drift.Between(s.Own(), given, held, given)
	now, refused := drift.Adopt(s, firewall, held, list)
	assert.NotEmpty(t, refused)
	for _, r := range refused {
		assert.Contains(t, []string{"interface", ""}, r.Member, r.What)
		assert.NotEmpty(t, r.Why)
	}
	got := compile.Device(now, firewall)
	assert.False(t, poolNamed(t, &got, "Clinic PCs").Enabled)
	assert.NotEmpty(t, poolNamed(t, &got, "Clinic PCs").Interface)
	assert.Equal(t, "by-hand", got.DHCP.Reservation[slices.IndexFunc(got.DHCP.Reservation,
		func(r yang.Reservation) bool { return r.ID == held.DHCP.Reservation[0].ID })].Name)
	assert.False(t, slices.ContainsFunc(got.DHCP.Reservation, func(r yang.Reservation) bool { return r.ID == gone }))
	// What the site gives already is no difference to adopt.
	again, none := drift.Adopt(now, firewall, held, list)
	assert.True(t, compile.Device(again, firewall).Equal(got))
	assert.Len(t, none, len(refused))
}

// The addresses of an interface and the time of a record are told in words. What is put back beside what Lithos gave
// goes.
func TestDifferencesInWords(t *testing.T) {
	s, given, held := start(t)
	i := slices.IndexFunc(held.Interfaces.Interface, func(i yang.Interface) bool {
		return i.IPv4 != nil && len(i.IPv4.Address) == 1
	})
	was := held.Interfaces.Interface[i].IPv4.Address[0].Prefix().String()
	held.Interfaces.Interface[i].IPv4.Address = append(held.Interfaces.Interface[i].IPv4.Address,
		yang.Address{IP: netip.MustParseAddr("192.0.2.9"), PrefixLength: 30})
	list := drift.Between(s.Own(), given, held, given)
	require.Len(t, list, 1)
	assert.Equal(t, []string{was, was + ", 192.0.2.9/30"}, []string{list[0].Pushed, list[0].Running})
	assert.Empty(t, list[0].Part, "an interface is known by its path")

	moss := scenario.Site("moss-end")
	given = compile.Device(moss, "dev-moss-srv")
	held = copied(given)
	r := &held.Resolver.Zone[0].Record[0]
	r.TTL = 77
	list = drift.Between(moss.Own(), given, held, given)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Running, r.Data+" for 77 s")
	assert.NotContains(t, list[0].Pushed, " s")

	_, given, held = start(t)
	held.DHCP.Class = append(held.DHCP.Class, yang.Class{ID: "by-hand", Name: "By hand", Match: "x"})
	list = drift.Between(s.Own(), given, held, given)
	require.Len(t, list, 1)
	assert.True(t, list[0].Beside)
	assert.Equal(t, "class:by-hand", list[0].Part)
	assert.True(t, drift.Target(held, given, given, nil).Equal(held), "it is left beside")
	assert.True(t, drift.Target(held, given, given, map[string]bool{list[0].ID: true}).Equal(given))
}
