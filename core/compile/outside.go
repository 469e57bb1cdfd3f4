package compile

import (
	"cmp"

	"lithos/core/site"
	"lithos/core/yang"
)

// KeepsNames reports whether devices of a kind can keep outside names that follow their uplinks.
func KeepsNames(kind string) bool { return kind != site.L2Switch && kind != site.L3Switch }

// Outside is the names that a device keeps. Those that nobody could be told are left out: rule ddns-nobody-keeps
// says so.
func Outside(s *site.Site, id string) yang.OutsideNames {
	var out yang.OutsideNames
	for i := range s.Following {
		f := &s.Following[i]
		d, uplink, ok := s.Interface(f.Uplink)
		if !ok || d.ID != id || f.Keeper != site.KeptByDevice || uplink.Kind != site.Uplink || !KeepsNames(d.Kind) ||
			f.Key == "" || f.Secret == "" || f.Source == site.AskedOutside && f.Asks == "" {
			continue
		}
		z, ok := s.ZoneOf(f.Name, site.Outside)
		if !ok || f.How == site.ByRequest && f.RequestTo == "" || f.How == "" && !z.Server.Address.IsValid() {
			continue
		}
		n := yang.OutsideName{ID: f.ID, Name: f.Name, Zone: z.Name, Interface: uplink.Name, Enabled: f.Enabled,
			Wildcard: f.Wildcard, Type: f.Types(), Key: f.Key, SecretName: f.Secret,
			TTL: cmp.Or(f.TTL, site.FollowingTTL), Every: cmp.Or(f.Every, site.FollowingEvery),
			Least: cmp.Or(f.Least, site.FollowingLeast)}
		if f.Source == site.AskedOutside {
			n.Asks = f.Asks
		}
		if f.How == site.ByRequest {
			n.RequestTo = f.RequestTo
		} else {
			to := z.Server.AddrPort()
			n.Server, n.Port = to.Addr(), int(to.Port())
			n.Algorithm = cmp.Or(f.KeyAlgorithm, site.Algorithms[0])
		}
		out.Name = append(out.Name, n)
	}
	return out
}
