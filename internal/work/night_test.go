package work_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/move"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/internal/device"
	"lithos/internal/outbound"
	"lithos/internal/standin"
)

// sockets is a world of stand-ins on real sockets, whose DHCP servers go by the clock of the night.
type sockets struct {
	t       *testing.T
	now     time.Time
	doc     *site.Site
	devices map[string]*standin.Device
	drivers map[string]*device.RESTCONF
	wires   map[string]dhcp.Wire // by device and interface, of this document
	sent    int
}

func onSockets(t *testing.T, s *site.Site) *sockets {
	w := &sockets{t: t, devices: map[string]*standin.Device{}, drivers: map[string]*device.RESTCONF{}}
	fabric := standin.NewFabric()
	for _, d := range s.Devices {
		dev, err := standin.Start(standin.Config{Name: d.ID, System: d.Name, Kind: d.Kind, Fabric: fabric,
			Account:  "lithos",
			Password: "secret", Initial: compile.Device(s, d.ID), Clock: func() time.Time { return w.now }})
		require.NoError(t, err)
		t.Cleanup(dev.Close)
		w.devices[d.ID] = dev
		w.drivers[d.ID] = device.NewRESTCONF(device.Access{URL: dev.URL, Account: "lithos", Password: "secret",
			Fingerprint: dev.Fingerprint}, outbound.Loopback())
		t.Cleanup(w.drivers[d.ID].Close)
	}
	return w
}

// Become implements move.World.
func (w *sockets) Become(now time.Time, doc *site.Site) {
	w.now, w.doc, w.wires = now, doc, map[string]dhcp.Wire{}
	for id, d := range w.devices {
		require.NoError(w.t, d.Set(compile.Device(doc, id)))
	}
}

// Pass implements move.World.
func (w *sockets) Pass(now time.Time) { w.now = now }

// Wire implements move.World.
func (w *sockets) Wire(n *site.Network) dhcp.Wire {
	return func(request []byte, to netip.Addr) ([]byte, string, error) {
		w.sent++
		d, i, ok := topology.Hearing(w.doc, n)
		if to.IsValid() {
			d, i, ok = w.doc.HolderOf(to)
		}
		if !ok {
			return nil, "nobody hears it", nil
		}
		key := d.ID + "/" + i.Name
		attach := w.drivers[d.ID].Attach
		if to.IsValid() {
			key, attach = key+"/sent", w.drivers[d.ID].AttachTo
		}
		wire := w.wires[key]
		if wire == nil {
			var err error
			var detach func()
			wire, detach, err = attach(w.t.Context(), i.Name)
			require.NoError(w.t, err)
			w.t.Cleanup(detach)
			w.wires[key] = wire
		}
		return wire(request, to)
	}
}

// The simulated night and the same night on stand-ins over real sockets, whose servers go by the same clock, bring
// every
// client the same: when it loses service, when it has it again, and which address it has then.
func TestTheNightOnSockets(t *testing.T) {
	t.Parallel()
	s := scenario.Site("kelder-bridge")
	night := time.Date(2026, 11, 25, 23, 30, 0, 0, time.UTC)
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-handsets",
		Prefix: netip.MustParsePrefix("10.84.22.0/24"), VLAN: 131}}})
	require.NoError(t, err)
	var clients []move.Client
	for i := range 8 {
		clients = append(clients, move.Client{Name: "phone", Network: "net-handsets",
			MAC: address.MAC{0, 0, 0x5e, 0, 0x61, byte(i)}})
	}
	var acts []move.Act
	for _, ph := range p.Phases() {
		acts = append(acts, move.Act{At: ph.NotBefore, Doc: ph.Doc})
	}
	simulated := move.Simulate(s, clients, acts)
	w := onSockets(t, s)
	real := move.Play(w, s, clients, acts)
	assert.Equal(t, simulated.Fates, real.Fates)
	assert.Equal(t, 8, real.Affected)
	assert.Zero(t, real.Stranded)
	assert.Greater(t, w.sent, 40)
	t.Logf("%d messages over sockets; %.1f client-minutes without service", w.sent, real.Minutes)
}
