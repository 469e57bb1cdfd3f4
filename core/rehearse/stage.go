package rehearse

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/drift"
	"lithos/core/names"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// Stage is the devices of one document with their servers and relays running,
// and a clock that the caller moves. It is not safe for concurrent use.
type Stage struct {
	now      time.Time
	site     *site.Site
	own      option.Own
	servers  map[string]*dhcp.Server
	relays   map[string]*dhcp.Relay
	leases   Leases                    // that they began with
	beside   map[string][]yang.Program // that listen for names beside the resolvers, by device id
	live     names.Live                // nil where what resolvers answer is computed
	given    netip.Addr                // the address of a client that was tried; invalid for one nobody knows
	world    *names.World              // its resolvers, made when they are first asked
	findings []check.Finding           // of the site, worked out when a rung first fails
}

// NewStage sets the devices of a site up, with the leases they hold.
func NewStage(now time.Time, s *site.Site, leases Leases) *Stage {
	return newStage(now, s, nil, leases)
}

// newStage sets the devices of a site up; those of held with what they hold, which may be something else than the site
// says: what they serve and relay, and their interfaces, permits, VLANs and uplinks.
func newStage(now time.Time, s *site.Site, held map[string]yang.Config, leases Leases) *Stage {
	s = drift.AsHeld(s, held)
	st := &Stage{now: now, site: s, own: s.Own(), leases: leases, servers: map[string]*dhcp.Server{},
		relays: map[string]*dhcp.Relay{}}
	for _, d := range s.Devices {
		c, read := held[d.ID]
		if !read {
			c = compile.Device(s, d.ID)
		}
		st.servers[d.ID] = dhcp.NewServer(c, dhcp.NewLeaseDB(leases[d.ID]...))
		if len(c.Relays.Relay) > 0 {
			st.relays[d.ID] = dhcp.NewRelay(c)
		}
	}
	return st
}

// Leases is what the servers of each device hold by now.
func (st *Stage) Leases() Leases {
	out := Leases{}
	for id, server := range st.servers {
		if held := server.Leases(); len(held) > 0 {
			out[id] = held
		}
	}
	return out
}

// Pass lets time go by.
func (st *Stage) Pass(d time.Duration) { st.now = st.now.Add(d) }

// Wire carries messages to the devices that have an interface on the network,
// as a broadcast on that network would: to a server there, and through a relay
// to a server elsewhere. The first reply counts. A message to one server goes to
// the device that holds its address.
func (st *Stage) Wire(n *site.Network) dhcp.Wire {
	return func(request []byte, to netip.Addr) ([]byte, string, error) {
		m, err := dhcp.ReadPacket(request)
		if err != nil {
			return nil, "", err
		}
		if to.IsValid() {
			reply, why := st.sent(m, to)
			return reply, why, nil
		}
		why := fmt.Sprintf("No device has an interface in %s.", n.Prefix)
		for di := range st.site.Devices {
			d := &st.site.Devices[di]
			for ii := range d.Interfaces {
				i := &d.Interfaces[ii]
				if !slices.ContainsFunc(i.Addresses,
					func(a netip.Prefix) bool { return a.Masked() == n.Prefix.Masked() }) {
					continue
				}
				var reply []byte
				if reply, why = st.hear(d, i, m); reply != nil {
					return reply, why, nil
				}
			}
		}
		return nil, why, nil
	}
}

// sent gives a message to the server that holds an address.
func (st *Stage) sent(m *dhcpv4.DHCPv4, to netip.Addr) (reply []byte, why string) {
	d, at, ok := st.site.HolderOf(to)
	if !ok {
		return nil, fmt.Sprintf("No device holds %s, which the client was served by.", to)
	}
	answer := st.servers[d.ID].HandleSent(st.now, m, at.Name)
	reply, _ = answer.Wire()
	return reply, fmt.Sprintf("Sent to %s. %s", d.Name, answer.Why())
}

// hear gives a message to one interface.
func (st *Stage) hear(d *site.Device, i *site.Interface, m *dhcpv4.DHCPv4) (reply []byte, why string) {
	relay := st.relays[d.ID]
	serves := slices.ContainsFunc(st.site.Pools, func(p site.Pool) bool { return p.Server == d.ID })
	relays := relay != nil && relay.Active(i.Name)
	if !serves && !relays {
		return nil, fmt.Sprintf("%s of %s neither serves nor relays DHCP.", i.Name, d.Name)
	}
	if !i.Permitted(site.PermitDHCP) {
		return nil, fmt.Sprintf("%s of %s does not permit DHCP.", i.Name, d.Name)
	}
	if serves {
		answer := st.servers[d.ID].Handle(st.now, m, i.Name)
		wire, _ := answer.Wire()
		if why = answer.Why(); wire != nil || !relays {
			return wire, why
		}
	}
	return st.relay(relay, m, i)
}

// relay passes a message to the servers a relay names and brings the first reply
// back.
func (st *Stage) relay(r *dhcp.Relay, m *dhcpv4.DHCPv4, i *site.Interface) (reply []byte, why string) {
	out, servers, why := r.Forward(m, i.Name)
	for _, to := range servers {
		d, at, ok := st.site.HolderOf(to)
		if !ok {
			why = fmt.Sprintf("%s relays to %s, which no device holds.", i.Name, to)
			continue
		}
		answer := st.servers[d.ID].HandleSent(st.now, out, at.Name)
		if why = answer.Why(); answer.Reply == nil {
			continue
		}
		raw, _ := answer.Wire()
		from, err := dhcp.ReadPacket(raw)
		if err != nil {
			return nil, err.Error()
		}
		if back, _, ok := r.Back(from); ok {
			// In the order the server chose: what it left out stays out.
			wire, _ := dhcp.Pack(back, dhcp.Order(raw), dhcp.Accepts(m))
			return wire, fmt.Sprintf("Relayed by %s to %s. %s", i.Name, d.Name, why)
		}
	}
	return nil, why
}
