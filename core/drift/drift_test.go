package drift_test

import (
	"encoding/json"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/drift"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/plan"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
)

// copied is a configuration that shares nothing with another.
func copied(c yang.Config) yang.Config {
	raw, err := json.Marshal(c)
	if err != nil {
		panic(err)
	}
	var out yang.Config
	if err := json.Unmarshal(raw, &out); err != nil {
		panic(err)
	}
	return out
}

func poolNamed(t require.TestingT, c *yang.Config, name string) *yang.Pool {
	i := slices.IndexFunc(c.DHCP.Pool, func(p yang.Pool) bool { return p.Name == name })
	require.GreaterOrEqual(t, i, 0, "there is no pool %s", name)
	return &c.DHCP.Pool[i]
}

const kelder, firewall = "kelder-bridge", "dev-gw-1"

func start(t require.TestingT) (*site.Site, yang.Config, yang.Config) {
	s := scenario.Site(kelder)
	require.NotEmpty(t, s.Devices)
	i := slices.IndexFunc(s.Devices, func(d site.Device) bool { return d.ID == firewall })
	require.GreaterOrEqual(t, i, 0)
	c := compile.Device(s, firewall)
	return s, c, copied(c)
}

// unsettled are differences that a push would undo or leave beside.
func unsettled(list []drift.Difference) []drift.Difference {
	return slices.DeleteFunc(list, func(d drift.Difference) bool { return d.Settled })
}

// hands are changes that somebody makes at a device, with how they are told.
var hands = []struct {
	name         string
	change       func(t require.TestingT, c *yang.Config)
	what, pushed string // of the first difference
	held         string
	refused      bool // cannot be adopted
	beside       bool
}{
	{"a wider pool", func(t require.TestingT, c *yang.Config) {
		p := poolNamed(t, c, "Clinic PCs")
		p.Range[0].Start = p.Range[0].Start.Prev()
	}, "pool Clinic PCs, range", "", "", false, false},
	{"a reservation gone", func(_ require.TestingT, c *yang.Config) {
		c.DHCP.Reservation = c.DHCP.Reservation[1:]
	}, "", "", "none", false, false},
	{"a reservation at another address", func(_ require.TestingT, c *yang.Config) {
		r := &c.DHCP.Reservation[0]
		for a := r.Address.Next(); ; a = a.Next() {
			if !slices.ContainsFunc(c.DHCP.Reservation, func(o yang.Reservation) bool { return o.Address == a }) {
				r.Address = a
				break
			}
		}
	}, "", "", "", false, false},
	{"a pool switched off", func(t require.TestingT, c *yang.Config) {
		poolNamed(t, c, "Clinic PCs").Enabled = false
	}, "pool Clinic PCs, switched on", "yes", "no", false, false},
	{"other name servers", func(t require.TestingT, c *yang.Config) {
		p := poolNamed(t, c, "Clinic PCs")
		i := slices.IndexFunc(p.Option, func(o yang.Option) bool { return o.Code == option.NameServers })
		require.GreaterOrEqual(t, i, 0)
		p.Option[i].Value, p.Option[i].Always = []byte{192, 0, 2, 53}, true
	}, "pool Clinic PCs, name servers (option 6)", "", "192.0.2.53", false, false},
	{"an exclusion more", func(t require.TestingT, c *yang.Config) {
		p := poolNamed(t, c, "Clinic PCs")
		at := p.Range[0].End
		p.Exclusion = append(p.Exclusion, yang.Exclusion{Span: yang.Span{Start: at, End: at}, Reason: "a scale"})
	}, "pool Clinic PCs, exclusions", "", "", false, false},
	{"a client more", func(t require.TestingT, c *yang.Config) {
		p := poolNamed(t, c, "Clinic PCs")
		c.DHCP.Reservation = append(c.DHCP.Reservation, yang.Reservation{ID: "by-hand", Pool: p.ID, Name: "scale",
			Address: p.Range[0].End, MAC: address.MAC{2, 0, 94, 16, 0, 1}})
	}, "reservation scale", "none", "", false, true},
	{"another interface of a pool", func(t require.TestingT, c *yang.Config) {
		poolNamed(t, c, "Clinic PCs").Interface = ""
	}, "pool Clinic PCs, interface", "", "none", true, false},
}

// Each change by hand is told, can be adopted, after which a push would leave the device as it is, and can be put back,
// after which the device holds what it was given.
func TestEachChangeByHandIsToldAdoptedOrPutBack(t *testing.T) {
	for _, h := range hands {
		t.Run(h.name, func(t *testing.T) {
			s, pushed, held := start(t)
			h.change(t, &held)
			list := drift.Between(s.Own(), pushed, held, pushed)
			require.Len(t, list, 1, "%v", list)
			d := list[0]
			for _, pair := range [][2]string{{h.what, d.What}, {h.pushed, d.Pushed}, {h.held, d.Running}} {
				if pair[0] != "" {
					assert.Equal(t, pair[0], pair[1])
				}
			}
			assert.NotEqual(t, d.Pushed, d.Running)
			assert.Equal(t, h.beside, d.Beside)
			if !h.beside {
				assert.Len(t, drift.Undecided(list, nil), 1, "a push is refused until somebody decides")
				assert.Empty(t, drift.Undecided(list, map[string]bool{d.ID: true}))
			}
			now, refused := drift.Adopt(s, firewall, held, list)
			again, err := edit.Apply(s, edit.Between(s, now)...)
			require.NoError(t, err)
			if h.refused {
				require.Len(t, refused, 1)
				assert.Contains(t, refused[0].Why, "put it back")
				assert.Empty(t, edit.Between(s, now))
			} else {
				assert.Empty(t, refused)
				given := compile.Device(again, firewall)
				assert.Empty(t, unsettled(drift.Between(s.Own(), pushed, held, given)))
			}
			back := drift.Target(held, pushed, pushed, map[string]bool{d.ID: true})
			assert.Empty(t, drift.Between(s.Own(), pushed, back, pushed))
			for _, step := range plan.Between(held, back) {
				require.NoError(t, step.Apply(&held))
			}
			assert.True(t, held.Equal(pushed), "put back, it holds what it was given")
		})
	}
}

// What is adopted of any changes leads to a site that gives the device what it holds, but for what is refused.
func TestWhatIsAdoptedIsWhatIsHeld(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s, pushed, held := start(rt)
		picked := rapid.SliceOfNDistinct(rapid.IntRange(0, len(hands)-1), 1, 4, rapid.ID).Draw(rt, "changes")
		for _, i := range picked {
			hands[i].change(rt, &held)
		}
		list := drift.Between(s.Own(), pushed, held, pushed)
		now, refused := drift.Adopt(s, firewall, held, list)
		given := compile.Device(now, firewall)
		var names, refusals []string
		for _, d := range unsettled(drift.Between(s.Own(), pushed, held, given)) {
			names = append(names, d.What)
		}
		for _, r := range refused {
			refusals = append(refusals, r.What)
		}
		assert.Equal(rt, refusals, names)
	})
}

// Of each site and device: nothing differs where a device holds what it was given, and everything where it is empty.
func TestDriftOfEachScenarioDevice(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, d := range s.Devices {
			c := compile.Device(s, d.ID)
			assert.Empty(t, drift.Between(s.Own(), c, copied(c), c), "%s of %s", d.Name, name)
			for _, one := range drift.Between(s.Own(), c, yang.Config{}, c) {
				assert.Equal(t, "none", one.Running)
				assert.False(t, one.Beside)
				assert.False(t, one.Settled)
				assert.NotEmpty(t, drift.Writing(c, one.Path), one.What)
			}
		}
	}
}

// Names of a zone: a record by hand at the device is written down, one that the device dropped goes, and what follows
// from a reservation cannot be taken out.
func TestRecordsByHandAtAResolver(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, d := range s.Devices {
			c := compile.Device(s, d.ID)
			if len(c.Resolver.Zone) == 0 {
				continue
			}
			held := copied(c)
			z := &held.Resolver.Zone[0]
			z.Record = append(z.Record, yang.Record{ID: "by-hand", Owner: "by-hand", Type: "TXT", Data: `"here"`})
			held.Resolver.Settings.CacheEntries += 5
			list := drift.Between(s.Own(), c, held, c)
			require.Len(t, list, 2)
			now, refused := drift.Adopt(s, d.ID, held, list)
			assert.Empty(t, refused)
			given := compile.Device(now, d.ID)
			assert.Empty(t, drift.Between(s.Own(), given, held, given), "%s of %s", d.Name, name)
		}
	}
}

// A network that a device has and the site does not, with its interface and its pool, is adopted.
func TestANetworkMadeByHand(t *testing.T) {
	s, pushed, held := start(t)
	held.Interfaces.Interface = append(held.Interfaces.Interface, yang.Interface{Name: "lan.77",
		Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{Parent: "lan", ID: 77},
		IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: netip.MustParseAddr("10.84.31.1"),
			PrefixLength: 26}}}})
	held.DHCP.Pool = append(held.DHCP.Pool, yang.Pool{ID: "guests", Name: "Guests", Enabled: true, Interface: "lan.77",
		Subnet: netip.MustParsePrefix("10.84.31.0/26"), Range: []yang.Span{{Start: netip.MustParseAddr("10.84.31.10"),
			End: netip.MustParseAddr("10.84.31.20")}}})
	list := drift.Between(s.Own(), pushed, held, pushed)
	require.Len(t, list, 2)
	assert.True(t, list[0].Beside && list[1].Beside)
	now, refused := drift.Adopt(s, firewall, held, list)
	assert.Empty(t, refused)
	given := compile.Device(now, firewall)
	assert.Empty(t, unsettled(drift.Between(s.Own(), pushed, held, given)))
}
