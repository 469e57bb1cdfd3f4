package observed_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/observed"
	"lithos/core/scenario"
	"lithos/core/site"
)

func heard(source, a string, mac byte, change ...func(*observed.Heard)) observed.Heard {
	h := observed.Heard{Device: "dev-gw-1", Source: source, MAC: address.MAC{0, 0, 0x5e, 1, 1, mac},
		First: noon.Add(-time.Hour), Last: noon}
	if a != "" {
		h.Address = netip.MustParseAddr(a)
	}
	for _, c := range change {
		c(&h)
	}
	return h
}

// What switches say of their ports tells where the clients are of which others tell the addresses, in any order.
func TestSightingsKnowTheirPorts(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	on := func(device, port string) func(*observed.Heard) {
		return func(h *observed.Heard) { h.Device, h.Port = device, port }
	}
	for _, all := range [][]observed.Heard{
		{heard(observed.Station, "", 1, on("dev-sw-core", "port2")), heard(observed.Lease, "10.84.18.100", 1)},
		{heard(observed.Lease, "10.84.18.100", 1), heard(observed.Station, "", 1, on("dev-sw-core", "port2"))},
	} {
		seen := observed.Sightings(s, all, noon)
		require.Len(t, seen, 1)
		assert.Equal(t, "port2 of sw-core", seen[0].Port)
		assert.Equal(t, "gw-1", seen[0].Device)
	}
	seen := observed.Sightings(s, []observed.Heard{heard(observed.Neighbour, "10.84.18.100", 1, on("dev-gw-1", "lan3")),
		heard(observed.Neighbour, "10.84.18.101", 2), heard(observed.Station, "", 3, on("elsewhere", "p"))}, noon)
	require.Len(t, seen, 2)
	assert.Equal(t, []string{"lan3 of gw-1", ""}, []string{seen[0].Port, seen[1].Port})
}

// A neighbour counts as there for less than ten minutes after its last answer, a lease until it ends or was given back.
func TestSightingsAreLive(t *testing.T) {
	ago := func(d time.Duration) func(*observed.Heard) {
		return func(h *observed.Heard) { h.Last = noon.Add(-d) }
	}
	ends := func(in time.Duration, bound bool) func(*observed.Heard) {
		return func(h *observed.Heard) { h.Expires, h.Bound, h.Last = noon.Add(in), bound, noon.Add(-time.Hour) }
	}
	for what, c := range map[string]struct {
		observed.Heard
		live bool
	}{
		"a neighbour of nine minutes ago": {heard(observed.Neighbour, "10.84.18.100", 1, ago(9*time.Minute)), true},
		"of ten":                          {heard(observed.Neighbour, "10.84.18.100", 1, ago(10*time.Minute)), false},
		"a lease with an hour left":       {heard(observed.Lease, "10.84.18.100", 1, ends(time.Hour, true)), true},
		"that was given back":             {heard(observed.Lease, "10.84.18.100", 1, ends(time.Hour, false)), false},
		"that ends now":                   {heard(observed.Lease, "10.84.18.100", 1, ends(0, true)), false},
		"that has no end, told just now":  {heard(observed.Lease, "10.84.18.100", 1), true},
		"a neighbour has no lease to end": {heard(observed.Neighbour, "10.84.18.100", 1, ends(time.Hour, true)), false},
	} {
		assert.Equal(t, c.live, observed.Sightings(scenario.Site("kelder-bridge"), []observed.Heard{c.Heard},
			noon)[0].Live,
			what)
	}
}

// A lease and the neighbour that answers at its address are one, whichever was heard first.
func TestLeaseAndNeighbourAreOne(t *testing.T) {
	lease := heard(observed.Lease, "10.84.18.100", 1, func(h *observed.Heard) {
		h.Name, h.First, h.Last, h.Expires, h.Bound = "till", noon.Add(-3*time.Hour), noon.Add(-time.Hour),
			noon.Add(-1), true
	})
	answers := heard(observed.Neighbour, "10.84.18.100", 1)
	for _, all := range [][]observed.Heard{{lease, answers}, {answers, lease}} {
		seen := observed.Sightings(scenario.Site("kelder-bridge"), all, noon)
		require.Len(t, seen, 1)
		assert.Equal(t, observed.Lease, seen[0].Source)
		assert.Equal(t, "till", seen[0].Name)
		assert.True(t, seen[0].Live, "it answers although its lease has ended")
		assert.Equal(t, []time.Time{noon.Add(-3 * time.Hour), noon}, []time.Time{seen[0].First, seen[0].Last})
	}
	assert.Len(t, observed.Sightings(scenario.Site("kelder-bridge"),
		[]observed.Heard{lease, heard(observed.Neighbour, "10.84.18.100", 2)}, noon), 2, "another machine")
}

// How many machines contend for an address, and whether they answer or only lease it, is said.
func TestContestedSaysHow(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for says, seen := range map[string][]observed.Sighting{
		"10.84.18.100 is leased to 2 machines.": {at("10.84.18.100", 1, lease), at(
			"10.84.18.100", 2, lease)},
		"2 machines answer for 10.84.18.100.": {at("10.84.18.100", 1), at(
			"10.84.18.100", 2)},
		"3 machines answer for 10.84.18.100.": {at("10.84.18.100", 1), at(
			"10.84.18.100", 2), at("10.84.18.100", 2), at("10.84.18.100", 3)},
		"10.84.18.100 is leased to one machine, and another answers there": {at("10.84.18.100", 1, lease), at(
			"10.84.18.100", 2)},
	} {
		found := false
		for _, r := range observed.Look(s, seen)[0].Remarks {
			if r.Kind == observed.Contested {
				found = true
				assert.Contains(t, r.Says, says)
			}
		}
		assert.True(t, found, says)
	}
}

// Somebody loses a connection by a clone, a contested address or one that the pool may hand out again, by nothing else.
func TestGraveRemarks(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	grave := map[string]bool{}
	for _, o := range observed.Look(s, []observed.Sighting{at("10.84.18.100", 1), at("10.84.18.101", 1),
		at("10.84.18.102", 2, lease), at("10.84.18.102", 3), at("10.84.19.231", 4),
		at("10.84.18.103", 5, lease, func(v *observed.Sighting) { v.MAC[0] = 2; v.Device = "sw-core" })}) {
		for _, r := range o.Remarks {
			grave[r.Kind] = r.Grave
		}
	}
	assert.Equal(t, map[string]bool{observed.Cloned: true, observed.Contested: true, observed.InPool: true,
		observed.Unrecorded: false, observed.MadeUp: false, observed.LeftOver: false}, grave)
}

// A fixed device is known by its address and MAC, and by its address alone where no MAC is recorded.
func TestFixedDeviceIsKnown(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	f := &s.FixedDevices[0]
	f.MAC = address.MAC{0, 0, 0x5e, 1, 1, 1}
	known := func(mac byte) string {
		return observed.Look(s, []observed.Sighting{at(f.Address.String(), mac)})[0].Ref
	}
	assert.Equal(t, site.KindFixedDevice+":"+f.ID, known(1))
	assert.Empty(t, known(2), "another machine on its address")
	f.MAC = address.MAC{}
	assert.Equal(t, site.KindFixedDevice+":"+f.ID, known(2))
}

// A lease is left over where the pool that serves its network is another's, or is off.
func TestLeaseOfAPoolThatIsOff(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	left := func() bool {
		for _, r := range observed.Look(s, []observed.Sighting{at("10.84.18.100", 1, lease)})[0].Remarks {
			if r.Kind == observed.LeftOver {
				return true
			}
		}
		return false
	}
	assert.False(t, left())
	for i := range s.Pools {
		s.Pools[i].Enabled = s.Pools[i].Network != "net-clinic"
	}
	assert.True(t, left(), "pools of other networks do not count")
}
