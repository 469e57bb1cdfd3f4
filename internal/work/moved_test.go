package work_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/demo/demotest"
	"lithos/internal/standin"
)

// onLoopback is the north practice at addresses that this machine has, with its devices reached there: the firewall at
// its uplink, the switch at its management interface.
func (o *office) onLoopback() (doc *site.Site, devices map[string]*standin.Device) {
	o.t.Helper()
	text, err := site.EncodeYAML(scenario.Site("orchard-north"))
	require.NoError(o.t, err)
	doc, err = site.Read(strings.NewReader(strings.NewReplacer("172.22.", "127.22.", "orchard-north", "loop-north",
		"north.orchardlane", "loop.orchardlane").Replace(string(text))))
	require.NoError(o.t, err)
	return doc, demotest.StandIns(o.t, o.Service, doc)
}

// A push gives a switch another management address: Lithos finds it there by its certificate, lands, and reaches it
// there from then on. A push that returns finds it at the old one again.
func TestReconnectsAtTheNewAddress(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	o.Pushes.Outside = netip.Addr{} // nothing is beyond these stand-ins
	doc, devices := o.onLoopback()
	sw := devices["dev-loop-north-sw"]
	at := func() netip.Addr {
		rows, err := o.Store.Access(t.Context(), doc.ID)
		require.NoError(t, err)
		for _, a := range rows {
			if a.DeviceID == "dev-loop-north-sw" {
				return netip.MustParseAddrPort(strings.TrimPrefix(a.URL, "https://")).Addr()
			}
		}
		return netip.Addr{}
	}
	assert.Equal(t, "127.22.64.2", at().String())
	id := o.at("loop-north")
	o.edit(id, interfaceOf("dev-loop-north-sw", "if-loop-north-mgmt", "addresses", "127.22.64.5/26"))

	sw.Inject(standin.Faults{ConfirmsFull: 10})
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "failed", v.Push.State)
	assert.Contains(t, v.Push.Problem, "sw-north")
	assert.Equal(t, "127.22.64.2", at().String())
	assert.Contains(t, sw.URL, "127.22.64.2:", "it is back where it was")

	sw.Inject(standin.Faults{})
	require.NoError(t, o.pushAll(o.Service, id))
	v = o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Equal(t, "127.22.64.5", at().String(), "it is reached there from now on")
	var last string
	for _, l := range v.Push.Journal {
		if l.Stage == "step" {
			last = l.Device + " " + l.Says
		}
	}
	assert.Contains(t, last, "127.22.64.5")
}
