package standin

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/yang"
)

// What Lithos itself sends fits the modules, for every device of every site.
func TestWhatLithosSendsFitsTheModules(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, d := range s.Devices {
			c := compile.Device(s, d.ID)
			for _, i := range c.Interfaces.Interface {
				require.NoError(t, modules().body(yang.InterfacePath(i.Name), yang.Body(i)), "%s %s", d.ID, i.Name)
				if i.IPv4 != nil {
					require.NoError(t, modules().body(yang.IPv4Path(i.Name), yang.Body(i.IPv4)))
				}
			}
			for _, p := range c.DHCP.Pool {
				require.NoError(t, modules().body(yang.PoolPath(p.ID), yang.Body(p)), "%s %s", d.ID, p.ID)
			}
			for _, r := range c.DHCP.Reservation {
				require.NoError(t, modules().body(yang.ReservationPath(r.ID), yang.Body(r)), "%s %s", d.ID, r.ID)
			}
			for _, k := range c.DHCP.Class {
				require.NoError(t, modules().body(yang.ClassPath(k.ID), yang.Body(k)), "%s %s", d.ID, k.ID)
			}
			for _, r := range c.Relays.Relay {
				require.NoError(t, modules().body(yang.RelayPath(r.Interface), yang.Body(r)))
			}
		}
	}
}

// Whatever path and body come, they are judged without a panic, and what fits is taken by the
// device's own types.
func FuzzBody(f *testing.F) {
	s := scenario.Site("kelder-bridge")
	c := compile.Device(s, "dev-gw-1")
	f.Add(yang.PoolPath("p"), yang.Body(c.DHCP.Pool[0]))
	f.Add(yang.InterfacePath("lan"), yang.Body(c.Interfaces.Interface[0]))
	f.Add(yang.ReservationPath("r"), yang.Body(c.DHCP.Reservation[0]))
	raw, err := json.Marshal(c)
	require.NoError(f, err)
	var tree any
	require.NoError(f, json.Unmarshal(raw, &tree))
	f.Fuzz(func(t *testing.T, path string, body []byte) {
		if len(path) > 1000 || len(body) > 1<<16 {
			return
		}
		_, _, _ = below(tree, path)
		if modules().body(path, body) != nil {
			return
		}
		next := c
		_ = next.Put(path, body)
	})
}

// Whatever a lease file holds, it is read without a panic, and no lease without an address is kept.
func FuzzLeases(f *testing.F) {
	f.Add([]byte(`{"address":"10.7.7.100","mac":"00:00:5e:00:01:01","subnet":"10.7.7.0/24","pool":"p",` +
		`"state":"bound"}` + "\n{"))
	f.Fuzz(func(t *testing.T, file []byte) {
		leases, _, err := readLeases(bytes.NewReader(file))
		require.NoError(t, err)
		for _, l := range leases {
			require.True(t, l.Address.Is4())
		}
	})
}
