package work_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The live ladder leases an address at the far end of the cables, so that a trunk that does not carry the VLAN any more
// fails it, and the push returns.
func TestBrokenTrunkFailsTheLadder(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	g := o.gate()
	w, _ := o.process()
	id := o.at("orchard-north")
	o.edit(id, entry("pool", "pool-north-surgeries", "ranges", "60-200"))
	g.close(0, "compare", "gw-north")
	require.NoError(t, o.pushAll(w, id))
	require.True(t, g.reached(id))
	sw := o.devices.ByID["dev-orchard-north-sw"]
	whole := sw.Running()
	broken := whole
	broken.Interfaces.Interface = slices.Clone(whole.Interfaces.Interface)
	for i, f := range broken.Interfaces.Interface {
		if f.Switchport != nil && len(f.Switchport.Tagged) > 0 {
			port := *f.Switchport
			port.Tagged = []int{10, 30}
			broken.Interfaces.Interface[i].Switchport = &port
		}
	}
	require.NoError(t, sw.Set(broken), "somebody at its console")
	g.open()
	v := o.waitPush(o.Service, id)
	assert.Equal(t, "failed", v.Push.State)
	assert.Contains(t, v.Push.Problem, "Lease on Surgeries: at `port1` of sw-north: a new client gets no address")

	require.NoError(t, sw.Set(whole))
	require.NoError(t, o.pushAll(w, id))
	v = o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	o.journalSays(v.Push, "done", "at `port1` of sw-north")
}
