package observed_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lithos/core/address"
	"lithos/core/observed"
	"lithos/core/scenario"
	"lithos/core/site"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func at(a string, mac byte, change ...func(*observed.Sighting)) observed.Sighting {
	s := observed.Sighting{
		Address: netip.MustParseAddr(a),
		MAC:     address.MAC{0, 0, 0x5e, 1, 1, mac},
		Source:  observed.Neighbour,
		Device:  "gw-1",
		First:   noon.Add(-time.Hour),
		Last:    noon,
		Live:    true,
	}
	for _, c := range change {
		c(&s)
	}
	return s
}

func lease(s *observed.Sighting) { s.Source = observed.Lease }
func gone(s *observed.Sighting)  { s.Live = false }

func remarks(all []observed.One) []string {
	out := []string{}
	for _, o := range all {
		for _, r := range o.Remarks {
			out = append(out, o.Address.String()+" "+r.Kind)
		}
	}
	return out
}

func TestRemarks(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	s.KnownClients = []site.KnownClient{{ID: "k", MAC: address.MAC{0, 0, 0x5e, 1, 1, 99}, Name: "kiosk",
		Ignored: "being replaced"}}
	recep := func(v *observed.Sighting) { v.MAC = address.MAC{0, 0, 0x5e, 0, 0x53, 0x10} } // reserved at 10.84.18.24
	made := func(v *observed.Sighting) { v.MAC[0] = 0x0a }
	moved := func(v *observed.Sighting) { v.First, v.Last = noon.Add(-10*time.Hour), noon.Add(-2*time.Hour) }
	elsewhere := func(v *observed.Sighting) { v.Device = "sw-core" }
	lasts := func(d time.Duration) func(*observed.Sighting) {
		return func(v *observed.Sighting) { v.Expires = noon.Add(d) }
	}
	for name, c := range map[string]struct {
		seen []observed.Sighting
		want []string
	}{
		"a lease in the pool": {[]observed.Sighting{at("10.84.18.100", 1, lease)}, []string{}},
		"nobody recorded it": {[]observed.Sighting{at("10.84.19.231", 1)},
			[]string{"10.84.19.231 unrecorded"}},
		"and it is gone": {[]observed.Sighting{at("10.84.19.231", 1, gone)}, []string{}},
		"a fixed address inside the pool": {[]observed.Sighting{at("10.84.18.100", 1)},
			[]string{"10.84.18.100 in pool"}},
		"excluded there": {[]observed.Sighting{at("10.84.18.121", 1)},
			[]string{"10.84.18.121 unrecorded"}},
		"a made-up MAC": {[]observed.Sighting{at("10.84.18.100", 1, lease, made)},
			[]string{"10.84.18.100 randomised"}},
		"a clone on one network": {[]observed.Sighting{at("10.84.18.24", 1, recep),
			at("10.84.18.25", 1, recep)},
			[]string{"10.84.18.24 cloned", "10.84.18.25 cloned", "10.84.18.25 unrecorded", "10.84.18.25 elsewhere"}},
		"one that moved": {[]observed.Sighting{at("10.84.18.100", 1, lease, moved),
			at("10.84.18.101", 1, lease)}, []string{}},
		"a clone heard by two devices": {[]observed.Sighting{at("10.84.16.10", 1),
			at("10.84.18.24", 1, elsewhere)}, []string{"10.84.16.10 cloned", "10.84.16.10 unrecorded",
			"10.84.18.24 cloned", "10.84.18.24 unrecorded"}},
		"a pool that moved to another server": {[]observed.Sighting{at("10.84.18.100", 1, lease),
			at("10.84.18.101", 1, lease, elsewhere)}, []string{"10.84.18.101 left over"}},
		"one that came after the other had gone": {[]observed.Sighting{at("10.84.18.100", 1, lease),
			at("10.84.18.100", 2, lease, moved)}, []string{}},
		"one machine on two networks": {[]observed.Sighting{at("10.84.18.100", 1, lease),
			at("10.84.20.30", 1, lease)}, []string{}},
		"two machines on one address": {[]observed.Sighting{at("10.84.18.100", 1, lease), at("10.84.18.100", 2)},
			[]string{"10.84.18.100 contested", "10.84.18.100 contested"}},
		"one on an address that another leased hours ago": {[]observed.Sighting{
			at("10.84.18.100", 1, lease, moved, lasts(time.Hour)), at("10.84.18.100", 2)},
			[]string{"10.84.18.100 contested", "10.84.18.100 contested"}},
		"one on an address whose lease has ended": {[]observed.Sighting{
			at("10.84.18.100", 1, lease, moved, lasts(-time.Hour), gone), at("10.84.18.100", 2)},
			[]string{"10.84.18.100 in pool"}},
		"ignored": {[]observed.Sighting{at("10.84.19.231", 99)},
			[]string{"10.84.19.231 ignored"}},
		"a device's own address is no client": {[]observed.Sighting{at("10.84.18.1", 7), at("10.84.20.1", 7)},
			[]string{}},
	} {
		assert.Equal(t, c.want, remarks(observed.Look(s, c.seen)), name)
	}
	look := observed.Look(s, []observed.Sighting{at("10.84.18.24", 1, recep), at("10.84.19.231", 99)})
	assert.Equal(t, []string{"recep-mfp", "reservation:res-recep-mfp", "net-clinic"},
		[]string{look[0].Known, look[0].Ref, look[0].Network})
	assert.Equal(t, "kiosk", look[1].Known)
}

// Each remark has a title, and a clone says at which ports its two machines are.
func TestRemarksNameThePorts(t *testing.T) {
	port := func(name string) func(*observed.Sighting) { return func(s *observed.Sighting) { s.Port = name } }
	s := scenario.Site("kelder-bridge")
	all := observed.Look(s, []observed.Sighting{
		at("10.84.18.100", 7, port("port2 of sw-ward")), at("10.84.20.30", 7, port("port5 of sw-core"),
			func(s *observed.Sighting) { s.Device = "sw-core" }),
		at("10.84.19.231", 8), at("10.84.19.232", 9, func(s *observed.Sighting) { s.MAC[0] = 2 }),
	})
	clones := 0
	for _, one := range all {
		for _, r := range one.Remarks {
			assert.NotEmpty(t, r.Title, r.Kind)
			if r.Kind == observed.Cloned {
				clones++
				assert.Contains(t, r.Says, "port2 of sw-ward")
				assert.Contains(t, r.Says, "port5 of sw-core")
			}
		}
	}
	assert.Equal(t, 2, clones, "told of both")
}
