package demotest

import (
	"bytes"
	_ "embed"
	"testing"

	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/demo"
	"lithos/internal/device"
	"lithos/internal/standin"
	"lithos/internal/work"
)

//go:embed attic.yaml
var attic []byte

// Attic brings in a site of a router with subinterfaces, a core switch, and two access switches whose management VLAN
// is untagged on their uplinks. Its addresses are this machine's, so that the switches are really reached at theirs.
func Attic(t testing.TB, w *work.Service) (*site.Site, map[string]*standin.Device) {
	t.Helper()
	doc, err := site.Read(bytes.NewReader(attic))
	require.NoError(t, err)
	return doc, StandIns(t, w, doc)
}

// StandIns brings a site in with a stand-in for each of its devices: layer 2 switches whose management interface has an
// address of this machine are reached there, the others at an address beside the site.
func StandIns(t testing.TB, w *work.Service, doc *site.Site) map[string]*standin.Device {
	t.Helper()
	_, err := w.Sites.Import(t.Context(), doc, 0, "for the test")
	require.NoError(t, err)
	fabric := standin.NewFabric()
	devices := map[string]*standin.Device{}
	for _, d := range doc.Devices {
		manage := ""
		for _, i := range d.Interfaces {
			here := len(i.Addresses) > 0 && i.Addresses[0].Addr().IsLoopback()
			if d.Kind == site.L2Switch && i.Name == "mgmt" && here {
				manage = i.Name
			}
		}
		dev, err := standin.Start(standin.Config{Name: d.ID, System: d.Name, Kind: d.Kind, Fabric: fabric,
			Initial: compile.Device(doc, d.ID), Account: "lithos", Password: "secret", Manage: manage,
			Links: demo.Links(doc, d), Secrets: scenario.Passwords[doc.ID]})
		require.NoError(t, err)
		t.Cleanup(dev.Close)
		devices[d.ID] = dev
		require.NoError(t, w.Accounts.PutAccess(t.Context(), "a test", doc.ID, d.ID,
			device.Access{URL: dev.URL, Account: "lithos", Password: "secret", Fingerprint: dev.Fingerprint}))
	}
	return devices
}
