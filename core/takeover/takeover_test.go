package takeover_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/takeover"
	"lithos/core/yang"
)

// wiped is a site of which nothing is left but its devices by name and kind, and what they hold.
func wiped(name string) (was, empty *site.Site, held []takeover.Device) {
	was = scenario.Site(name)
	empty = &site.Site{ID: was.ID, Code: was.Code, Name: was.Name, Customer: was.Customer, TimeZone: was.TimeZone,
		Block: was.Block}
	for _, d := range was.Devices {
		empty.Devices = append(empty.Devices, site.Device{ID: d.ID, Name: d.Name, Kind: d.Kind, Memory: d.Memory})
		held = append(held, takeover.Device{Device: d.ID, Config: compile.Device(was, d.ID)})
	}
	return was, site.Normal(empty), held
}

// Each site of the scenario, wiped and read again from its devices, has them hold what they held; what cannot be
// read is listed. The edits turn the wiped site into the one that was read.
func TestEachSiteIsTakenOver(t *testing.T) {
	for _, name := range scenario.Names {
		was, empty, held := wiped(name)
		now, left := takeover.Site(empty, held)
		again, err := edit.Apply(empty, edit.Between(empty, now)...)
		require.NoError(t, err, name)
		assert.Equal(t, encoded(t, now), encoded(t, again), name)
		for _, h := range held {
			want, is := unnamed(h.Config), unnamed(compile.Device(now, h.Device))
			// An outside name stays where it is: its key is on the device alone. It is listed.
			want.Outside = yang.OutsideNames{}
			if !is.Equal(want) {
				assert.Equal(t, pretty(t, want), pretty(t, is), "%s of %s", h.Device, name)
			}
		}
		var what []string
		for _, l := range left {
			what = append(what, l.Device+": "+l.What)
		}
		assert.Equal(t, leftOf[name], what, name)
		assert.Len(t, now.Reservations, len(was.Reservations), name)
	}
}

// leftOf is what is listed of each site for somebody to type.
var leftOf = map[string][]string{
	"the-van":      {"rt-van: the password of wan"},
	"quill-street": {"rt-quill: the outside name remote.quill.example"},
	"the-garret":   {"rt-garret: the password of wan"},
	"the-hut":      {"rt-hut: the password of wan", "rt-hut: the outside name hut.tidewater.example"},
}

// Reading again what was read adds nothing, and what the site has stays as it is.
func TestReadingAgainAddsNothing(t *testing.T) {
	for _, name := range scenario.Names {
		was := scenario.Site(name)
		var held []takeover.Device
		for _, d := range was.Devices {
			held = append(held, takeover.Device{Device: d.ID, Config: compile.Device(was, d.ID)})
		}
		now, _ := takeover.Site(was, held)
		assert.Empty(t, edit.Between(was, now), name)
	}
}

// What has no place in a site, and what a push would change, is listed and not passed over.
func TestWhatCannotBeReadIsListed(t *testing.T) {
	pool := func(subnet string, always bool, value ...byte) yang.Pool {
		return yang.Pool{ID: "p" + subnet, Name: "P", Enabled: true, Interface: "lan",
			Subnet: netip.MustParsePrefix(subnet),
			Option: []yang.Option{{Code: 51, Value: value, Always: always}}}
	}
	c := yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{{Name: "lan", Type: yang.TypeEthernet}}},
		DHCP: yang.DHCPServer{Pool: []yang.Pool{pool("10.1.1.0/24", false, 0, 0, 14, 16), pool("10.1.2.0/24", false,
			0, 0, 28, 32),
			pool("10.1.3.0/24", true, 7)},
			Reservation: []yang.Reservation{{ID: "r", Pool: "p10.1.1.0/24", Address: netip.MustParseAddr("10.9.9.9")}}}}
	empty := site.Normal(&site.Site{ID: "site-x", Code: "x", Name: "X", Devices: []site.Device{{ID: "d", Name: "rt",
		Kind: site.Router}}})
	now, left := takeover.Site(empty, []takeover.Device{{Device: "d", Config: c}, {Device: "nothing", Config: c}})
	assert.Len(t, now.Networks, 3)
	says := fmt.Sprint(left)
	for _, want := range []string{"lan it is switched off there",
		"option 51 of pool P it is sent there to who asks for it",
		"option 51 of pool P it has no value that can be written: 07", "the reservation of 10.9.9.9 no network"} {
		assert.Contains(t, says, want)
	}
}

// unnamed is a configuration with its records called by what they say: which part a record is of is not on a device.
func unnamed(c yang.Config) yang.Config {
	c.Resolver.Zone = slices.Clone(c.Resolver.Zone)
	for i := range c.Resolver.Zone {
		z := &c.Resolver.Zone[i]
		z.Record = slices.Clone(z.Record)
		for k := range z.Record {
			r := &z.Record[k]
			r.ID = r.Owner + "/" + r.Type + "/" + r.Data
		}
	}
	return c.Sorted()
}

func encoded(t *testing.T, s *site.Site) string {
	t.Helper()
	raw, err := site.Encode(s)
	require.NoError(t, err)
	return string(raw)
}

func pretty(t *testing.T, v any) string {
	t.Helper()
	raw, err := json.MarshalIndent(v, "", " ")
	require.NoError(t, err)
	return string(raw)
}

// Ports are joined as their devices hear each other; what is at the other end and not at the site is listed.
func TestCablesAreReadFromBothEnds(t *testing.T) {
	was, empty, held := wiped("kelder-bridge")
	joined := 0
	for i := range held {
		for _, d := range was.Devices {
			for _, f := range d.Interfaces {
				if far, peer, ok := was.Interface(f.Peer); ok && d.ID == held[i].Device {
					held[i].Links = append(held[i].Links, yang.LinkNeighbor{Interface: f.Name, SystemName: far.Name,
						PortID: peer.Name})
					joined++
				}
			}
		}
	}
	require.Positive(t, joined)
	held[0].Links = append(held[0].Links, yang.LinkNeighbor{Interface: "p2", SystemName: "nas", PortID: "eth0"})
	now, left := takeover.Site(empty, held)
	found := 0
	for _, d := range now.Devices {
		for _, f := range d.Interfaces {
			if f.Peer != "" {
				found++
			}
		}
	}
	assert.Equal(t, joined, found)
	assert.True(t, slices.ContainsFunc(left, func(l takeover.Left) bool { return l.What == "the cable of p2" }))
}
