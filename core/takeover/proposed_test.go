package takeover_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/takeover"
	"lithos/core/yang"
)

// A reading proposes the host name and the kind that a device gives itself, where they are recorded otherwise and could
// be recorded so.
func Test56ADeviceSaysWhatItIs(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	routes, bridges := yang.CapabilityRouter, yang.CapabilityBridge
	for _, c := range []struct {
		name, kind string // as recorded
		own        yang.LinkSystem
		want       []string
	}{
		{"gw-9", site.Router, yang.LinkSystem{SystemName: "gw-9", Capability: []string{routes}}, nil},
		{"gw-9", site.Firewall, yang.LinkSystem{SystemName: "GW-9", Capability: []string{routes, bridges}}, nil},
		{"gw-9", site.Router, yang.LinkSystem{SystemName: "edge-9.kelder.example"}, []string{"host name edge-9"}},
		{"gw-9", site.Router, yang.LinkSystem{SystemName: "edge 9", Capability: []string{bridges}},
			[]string{"kind layer 2 switch"}},
		{"gw-9", site.L2Switch, yang.LinkSystem{SystemName: "sw-9", Capability: []string{bridges, routes}},
			[]string{"host name sw-9", "kind layer 3 switch"}},
		{"gw-9", site.Server, yang.LinkSystem{Capability: []string{routes}}, []string{"kind router"}},
		{"gw-9", site.Router, yang.LinkSystem{Capability: []string{yang.CapabilityStation}}, []string{"kind server"}},
		{"gw-9", site.Router, yang.LinkSystem{SystemName: doc.Devices[0].Name}, nil}, // another device's
		{"gw-9", site.Router, yang.LinkSystem{}, nil},
	} {
		s := *doc
		s.Devices = append([]site.Device{{ID: "dev-nine", Name: c.name, Kind: c.kind}}, doc.Devices...)
		was := site.Normal(&s)
		var said []string
		for _, p := range takeover.Proposals(was, []takeover.Device{{Device: "dev-nine", Own: c.own}}) {
			said = append(said, p.What+" "+p.Says)
			now, err := edit.Apply(was, p.Edits...)
			require.NoError(t, err)
			d, _ := now.Device("dev-nine")
			assert.Contains(t, []string{d.Name, d.Kind}, p.Says)
		}
		assert.Equal(t, c.want, said, "%s, a %s, says %v", c.name, c.kind, c.own)
	}
}

// A cable to a device that is recorded by another name is found by the one that the device gives itself.
func Test56ACableByTheNameThatADeviceGivesItself(t *testing.T) {
	doc := site.Normal(&site.Site{Devices: []site.Device{
		{ID: "dev-a", Name: "first", Interfaces: []site.Interface{{ID: "if-a", Name: "p1", Kind: site.Port}}},
		{ID: "dev-b", Name: "second", Interfaces: []site.Interface{{ID: "if-b", Name: "p2", Kind: site.Port}}},
	}})
	hears := []yang.LinkNeighbor{{Interface: "p1", SystemName: "sw-b", PortID: "p2"}}
	now, left := takeover.Site(doc, []takeover.Device{{Device: "dev-a", Links: hears},
		{Device: "dev-b", Own: yang.LinkSystem{SystemName: "SW-B"}}})
	assert.Empty(t, left)
	assert.Equal(t, "if-b", now.Devices[0].Interfaces[0].Peer)
	_, left = takeover.Site(doc, []takeover.Device{{Device: "dev-a", Links: hears}, {Device: "dev-b"}})
	assert.Len(t, left, 1, "without it nobody knows which device that is")
}
