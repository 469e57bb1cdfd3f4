package standin

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/move"
	"lithos/core/scenario"
	"lithos/core/yang"
)

// kelder is the devices of a site with their cables.
func kelder(t *testing.T) (*Fabric, map[string]*Device) {
	doc := scenario.Site("kelder-bridge")
	f, out := NewFabric(), map[string]*Device{}
	for _, dev := range doc.Devices {
		var cables []yang.LinkNeighbor
		for _, d := range doc.Devices {
			for _, i := range d.Interfaces {
				other, far, ok := doc.Interface(i.Peer)
				switch {
				case !ok:
				case d.ID == dev.ID:
					cables = append(cables, yang.LinkNeighbor{Interface: i.Name, SystemName: other.Name,
						PortID: far.Name})
				case other.ID == dev.ID:
					cables = append(cables, yang.LinkNeighbor{Interface: far.Name, SystemName: d.Name, PortID: i.Name})
				}
			}
		}
		d, err := Start(Config{Name: dev.ID, System: dev.Name, Kind: dev.Kind, Fabric: f, Account: "a", Password: "p",
			Initial: compile.Device(doc, dev.ID), Links: cables})
		require.NoError(t, err)
		t.Cleanup(d.Close)
		out[dev.ID] = d
	}
	return f, out
}

// A simulated client keeps the port that it hangs on: after a renumbering it is heard by who serves the new VLAN, at a
// port without a tag and behind an access point alike. Plugged in elsewhere it is there, and at a port that is off
// nobody hears it.
//
//revive:disable-next-line:function-length it is one life of a device, step by step
func Test43ClientsKeepTheirPort(t *testing.T) {
	f, devices := kelder(t)
	all := scenario.Clients(scenario.Site("kelder-bridge"))
	heard := func(c scenario.Client) []string {
		at, _ := f.hearing(Client(c))
		var out []string
		for _, p := range at {
			out = append(out, p.device.config.System+" "+p.iface)
		}
		slices.Sort(out)
		return out
	}
	before := map[string][]string{}
	for _, c := range all {
		before[c.MAC.String()+c.Fixed.String()] = heard(c)
		require.NotEmpty(t, before[c.MAC.String()+c.Fixed.String()], c.Name)
	}
	p, err := move.Of(scenario.Site("kelder-bridge"), move.Request{Title: "VLANs", OneNight: true, Shifts: []move.Shift{
		{Network: "net-handsets", Prefix: netip.MustParsePrefix("10.84.22.0/24"), VLAN: 131},
		{Network: "net-waiting", VLAN: 190}}})
	require.NoError(t, err)
	for id, d := range devices {
		require.NoError(t, d.Set(compile.Device(p.Will, id)))
	}
	moved := 0
	for _, c := range all {
		was, now := before[c.MAC.String()+c.Fixed.String()], heard(c)
		assert.NotEmpty(t, now, "%s is silent", c.Name)
		switch {
		case c.VLAN == 31:
			assert.Equal(t, []string{"gw-1 lan.131"}, now, c.Name)
			moved++
		case c.VLAN == 90:
			assert.Equal(t, []string{"gw-1 lan.190"}, now, c.Name)
			moved++
		default:
			assert.Equal(t, was, now, c.Name)
		}
	}
	assert.Greater(t, moved, 20)

	operate := func(body string) (int, string) {
		r := httptest.NewRequest("POST", misbehave, strings.NewReader(`{"lithos-standin:input":`+body+`}`))
		r.Header.Set("Content-Type", "application/yang-data+json")
		w := httptest.NewRecorder()
		devices["dev-sw-core"].misbehave(w, r)
		return w.Code, w.Body.String()
	}
	phone := all[0]
	for _, c := range all {
		if c.VLAN == 31 && !c.Fixed.IsValid() {
			phone = c
		}
	}
	code, _ := operate(`{"fault":"plug","at":"port2","value":"` + phone.MAC.String() + `"}`)
	require.Equal(t, http.StatusOK, code)
	assert.Equal(t, []string{"gw-1 lan.24"}, heard(phone))
	code, armed := operate(`{"fault":"port-off","at":"port2"}`)
	require.Equal(t, http.StatusOK, code)
	assert.Contains(t, armed, "port-off")
	assert.Empty(t, heard(phone))
	up := func() bool {
		for _, port := range devices["dev-sw-core"].Sockets().Port {
			if port.Name == "port2" {
				return port.Up
			}
		}
		return false
	}
	assert.False(t, up())
	_, _ = operate(`{"fault":"port-on","at":"port2"}`)
	assert.True(t, up())
	assert.Equal(t, []string{"gw-1 lan.24"}, heard(phone))
	_, _ = operate(`{"fault":"port-off","at":"uplink1"}`)
	assert.Empty(t, heard(phone), "the cable to the router is out")
	_, _ = operate(`{"fault":"none"}`)
	assert.NotEmpty(t, heard(phone))
	for _, bad := range []string{`{"fault":"plug","at":"port2","value":"nobody"}`, `{"fault":"plug","at":"port99",` +
		`"value":"` +
		phone.MAC.String() + `"}`, `{"fault":"plug","at":"port1","value":"00:00:5e:ff:ff:ff"}`,
		`{"fault":"port-off","at":"port99"}`, `{"fault":"line","at":"port1","value":"203.0.113.9"}`} {
		code, _ := operate(bad)
		assert.Equal(t, http.StatusBadRequest, code, bad)
	}
	raw, err := json.Marshal(devices["dev-sw-core"].Sockets())
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"hw-address":"`+phone.MAC.String()+`"`)
	assert.Equal(t, "port2", devices["dev-sw-core"].learntPort(f, Client(phone)))
}

func (d *Device) learntPort(f *Fabric, who Client) string {
	at, _ := f.hearing(who)
	f.hear(at, who, netip.MustParseAddr("10.84.18.99"))
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.learnt[address.MAC(who.MAC)]
}
