package check_test

import (
	"fmt"
	"net/netip"
	"reflect"
	"testing"

	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// mangled is a site of the scenario with random damage.
func mangled(t *rapid.T) *site.Site {
	s := scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site"))
	host := func(n *site.Network, label string) netip.Addr {
		return address.FromUint(address.Uint(n.Prefix.Addr()) + rapid.Uint32Range(0, 300).Draw(t, label))
	}
	for range rapid.IntRange(0, 6).Draw(t, "damages") {
		n := &s.Networks[rapid.IntRange(0, len(s.Networks)-1).Draw(t, "network")]
		p := &s.Pools[rapid.IntRange(0, len(s.Pools)-1).Draw(t, "pool")]
		switch rapid.IntRange(0, 14).Draw(t, "damage") {
		case 0:
			n.Gateway = host(n, "gateway")
		case 1:
			n.VLAN = rapid.IntRange(0, 5000).Draw(t, "vlan")
		case 2:
			n.Prefix = netip.PrefixFrom(host(n, "prefix"), rapid.IntRange(16, 30).Draw(t, "bits"))
		case 3:
			a, b := host(n, "from"), host(n, "to")
			if b.Less(a) {
				a, b = b, a
			}
			p.Ranges = append(p.Ranges, address.Range{From: a, To: b})
		case 4:
			p.Enabled = false
		case 5:
			s.FixedDevices = append(s.FixedDevices,
				site.FixedDevice{ID: fmt.Sprintf("x-%d", len(s.FixedDevices)), Name: "x", Network: n.ID,
					Address: host(n, "fixed")})
		case 6:
			a := host(n, "excluded")
			p.Exclusions = append(p.Exclusions,
				site.Exclusion{ID: fmt.Sprintf("e-%d", len(p.Exclusions)), Range: address.Single(a), Reason: "r"})
		case 8:
			d := &s.Devices[rapid.IntRange(0, len(s.Devices)-1).Draw(t, "device")]
			i := &d.Interfaces[rapid.IntRange(0, len(d.Interfaces)-1).Draw(t, "interface")]
			i.Permits = []string{rapid.SampledFrom(site.Permissions).Draw(t, "permit")}
			i.RelayTo = append(i.RelayTo, host(n, "relay to"))
		case 9:
			d := &s.Devices[rapid.IntRange(0, len(s.Devices)-1).Draw(t, "device")]
			i := &d.Interfaces[rapid.IntRange(0, len(d.Interfaces)-1).Draw(t, "interface")]
			i.Tagged, i.Untagged = []int{n.VLAN}, rapid.IntRange(0, 100).Draw(t, "untagged")
		case 10:
			p.Server = s.Devices[rapid.IntRange(0, len(s.Devices)-1).Draw(t, "server")].ID
		case 11:
			p.ForClass = "class-lost"
		case 12:
			d := &s.Devices[rapid.IntRange(0, len(s.Devices)-1).Draw(t, "device")]
			for i := range d.Interfaces {
				if u := d.Interfaces[i].Uplink; u != nil {
					u.Translates, u.MTU = nil, 1400
				}
			}
		case 13:
			n.Options = append(n.Options,
				site.Option{Code: rapid.SampledFrom([]uint8{6, 15, 26, 54, 67, 119, 121}).Draw(t, "told"),
					Value: rapid.SampledFrom([]string{"10.0.0.1, 192.0.2.1", "other.example", "1500",
						"10.0.0.0/8 via 10.0.0.1"}).Draw(t, "value")})
		case 7:
			p.Options = append(p.Options,
				site.Option{Code: rapid.SampledFrom([]uint8{3, 6, 51, 58, 59}).Draw(t, "code"),
					Value: rapid.SampledFrom([]string{"10.0.0.1", "1 hour", "nonsense"}).Draw(t, "value")})
		default:
			s.Networks = append([]site.Network{}, s.Networks[1:]...)
			if len(s.Networks) == 0 {
				return site.Normal(s)
			}
		}
	}
	return site.Normal(s)
}

// Findings are the same for equal documents, each is whole, and a fix applies
// and silences the finding it belongs to.
func TestFindingsOfDamagedSites(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := mangled(t)
		found := check.Site(s)
		if !reflect.DeepEqual(found, check.Site(s)) {
			t.Fatal("found something else the second time")
		}
		for _, f := range found {
			if f.ID == "" || f.Title == "" || f.Says == "" || len(f.Parts) == 0 {
				t.Fatalf("an incomplete finding: %+v", f)
			}
			if f.Fix == nil {
				continue
			}
			if f.Fix.Title == "" || len(f.Fix.Edits) == 0 {
				t.Fatalf("an empty fix of %s", f.ID)
			}
			after, err := edit.Apply(s, f.Fix.Edits...)
			if err != nil {
				t.Fatalf("the fix of %s does not apply: %v", f.ID, err)
			}
			for _, left := range check.Site(after) {
				if left.ID == f.ID && reflect.DeepEqual(left.Addresses, f.Addresses) && f.Rule != "dns-missing" {
					t.Fatalf("the fix %q leaves %s: %s", f.Fix.Title, f.ID, left.Says)
				}
			}
		}
	})
}

// What is next free is usable and nobody's, in any site.
func TestNextFreeIsNobodys(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := mangled(t)
		for i := range s.Networks {
			n := &s.Networks[i]
			a, ok := site.NextFree(s, n)
			if !ok {
				continue
			}
			if !address.Usable(n.Prefix).Contains(a) {
				t.Fatalf("%s is not usable in %s", a, n.Prefix)
			}
			for _, r := range site.Taken(s, n) {
				if r.Contains(a) {
					t.Fatalf("%s is in %s", a, r)
				}
			}
		}
	})
}
