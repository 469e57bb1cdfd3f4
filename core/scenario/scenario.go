// Package scenario is the made-up sites of the demonstration, as site files,
// and the clients that live at them. Tests and benchmarks use them too.
package scenario

import (
	"bytes"
	"embed"
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

//go:embed *.yaml
var files embed.FS

// Names lists the sites.
var Names = []string{"kelder-bridge", "hallin-road", "moss-end", "quill-street", "the-garret", "the-yard",
	"the-hut", "the-chandlery", "the-slipway", "orchard-north", "orchard-south",
	"windmill-studio", "tidewater-studio", "the-van"}

// Outside is an address beyond every uplink that answers: the simulated internet
// answers for all, and this one is nobody's (RFC 5737).
var Outside = netip.AddrFrom4([4]byte{192, 0, 2, 1})

// Site reads a site of the scenario. It panics on a name that is not in Names:
// the files are part of the program.
func Site(name string) *site.Site {
	raw, err := files.ReadFile(name + ".yaml")
	if err != nil {
		panic(err)
	}
	s, err := site.Read(bytes.NewReader(raw))
	if err != nil {
		panic(fmt.Sprintf("%s: %v", name, err))
	}
	return s
}

// Programs are what listens for names on devices beside a resolver, by device id, when the
// demonstration begins: on the server of Moss End, whose resolver could not be put there for it.
var Programs = map[string]string{"dev-moss-srv": "hostname-cache"}

// Lines are the addresses that lines give uplinks when the demonstration begins, by device id and the name of
// the uplink.
var Lines = map[string]map[string]netip.Addr{
	"dev-garret-rt": {"wan": netip.AddrFrom4([4]byte{203, 0, 113, 97})},
	"dev-yard-gw":   {"wan": netip.AddrFrom4([4]byte{198, 51, 100, 140})},
	"dev-van-rt":    {"wan": netip.AddrFrom4([4]byte{100, 80, 3, 19})}, // so does that of the van
	"dev-hut-rt":    {"wan": netip.AddrFrom4([4]byte{100, 72, 9, 4})},  // its provider shares one address among many
}

// Told are addresses that the world is told already when the demonstration begins: of the yard's name one that
// its line had before, of the hut's one that was its own.
var Told = map[string]netip.Addr{
	"vpn.saltmarsh.example": netip.AddrFrom4([4]byte{198, 51, 100, 22}),
	"hut.tidewater.example": netip.AddrFrom4([4]byte{203, 0, 113, 7}),
}

// Before is what the lines of dynamic names had in the day before the demonstration begins, the oldest first: so many
// minutes ago, by the name. Of the hut's and the yard's name the world was not told the last.
var Before = map[string][]Had{
	"remote.quill.example":  {{1440, addr("192.0.2.18")}, {1002, addr("192.0.2.64")}, {404, addr("192.0.2.77")}},
	"vpn.saltmarsh.example": {{1440, addr("198.51.100.22")}, {487, addr("198.51.100.140")}},
	"hut.tidewater.example": {{1440, addr("203.0.113.7")}, {720, addr("100.72.9.4")}},
	"home.garret.example":   {{1440, addr("203.0.113.11")}, {1329, addr("203.0.113.97")}},
}

// Had is an address that a line has had since so many minutes.
type Had struct {
	Ago     int
	Address netip.Addr
}

var addr = netip.MustParseAddr

// Unreached are the devices that Lithos does not reach when the demonstration begins.
var Unreached = map[string]bool{"dev-slip-rt": true}

// ByHand is what somebody changed at devices before the demonstration begins, by device id.
var ByHand = map[string]func(c *yang.Config){
	"dev-chand-gw": func(c *yang.Config) {
		for i := range c.DHCP.Pool {
			switch p := &c.DHCP.Pool[i]; p.ID {
			case "pool-chand-chart":
				p.Range[0].Start = addr("10.97.21.60")
			case "pool-chand-guests":
				for k := range p.Option {
					if p.Option[k].Code == option.NameServers {
						p.Option[k].Value = []byte{192, 0, 2, 53}
					}
				}
			}
		}
		c.DHCP.Reservation = slices.DeleteFunc(c.DHCP.Reservation,
			func(r yang.Reservation) bool { return r.ID == "res-till-2" })
	},
	"dev-orchard-south-gw": func(c *yang.Config) {
		for i := range c.DHCP.Pool {
			if p := &c.DHCP.Pool[i]; p.ID == "pool-south-surgeries" {
				p.Exclusion = append(p.Exclusion, yang.Exclusion{Span: yang.Span{Start: addr("172.22.81.200"),
					End: addr("172.22.81.203")}, Reason: "X-ray units"})
			}
		}
	},
}

// Stray is a DHCP server that nobody recorded.
type Stray struct {
	VLAN     int
	MAC      address.MAC
	At       netip.Prefix
	From, To netip.Addr
}

// Strays are plugged in when the demonstration begins, by site: at the north practice a router from somebody's home.
var Strays = map[string]Stray{
	"orchard-north": {20, address.MAC{0, 0, 0x5e, 0, 0x53, 0xde}, netip.MustParsePrefix("172.22.65.254/24"),
		addr("172.22.65.250"), addr("172.22.65.251")},
}

// Passwords are the made-up passwords of lines, by the names that site files give them.
var Passwords = map[string]map[string]string{
	"site-the-garret": {"garret-line": "tiles-and-rain"},
	"site-the-hut":    {"hut-line": "mast-and-tide"},
	"site-the-van":    {"van-line": "lanes-and-gates"},
}

// LostKeys are keys that sites name and that the provider does not take any more.
var LostKeys = map[string]bool{"vpn.saltmarsh": true}

// Client is a simulated machine on a network of a site.
type Client struct {
	Name  string
	MAC   address.MAC
	VLAN  int        // of the network it is plugged into, 0 for untagged
	Fixed netip.Addr // the address it holds itself; invalid for a DHCP client
}

// crowd is how many clients without a reservation are on each network.
var crowd = map[string]int{
	"net-bench": 3, "net-cameras": 6, "net-handsets": 14, "net-clinic": 26, "net-imaging": 5, "net-waiting": 24,
	"net-hallin-bench": 2, "net-hallin-clinic": 12, "net-hallin-waiting": 3,
	"net-moss-bench": 2, "net-moss-ward": 11, "net-moss-theatre": 3, "net-moss-kennels": 4,
	"net-quill-home": 7, "net-quill-lab": 4, "net-quill-things": 9, "net-quill-guests": 2,
	"net-garret": 6, "net-yard-office": 5, "net-yard-slip": 3, "net-hut": 3,
	"net-chand-chart": 4, "net-chand-guests": 5, "net-north-surgeries": 6, "net-north-cameras": 4,
	"net-south-surgeries": 5, "net-south-cameras": 4, "net-mill": 3, "net-tide-desk": 4, "net-tide-guests": 3,
	"net-van": 2,
}

var words = []string{"recep-pc", "vet-laptop", "nurse-tablet", "office-pc", "phone", "camera", "sensor", "display"}

// Clients lists who is plugged in at a site: every reservation's and fixed
// device's machine, and on each network some that take what the pool gives.
func Clients(s *site.Site) []Client {
	var out []Client
	vlan := func(network string) int {
		if n, ok := s.Network(network); ok {
			return n.VLAN
		}
		return 0
	}
	for _, r := range s.Reservations {
		out = append(out, Client{Name: r.Name, MAC: r.MAC, VLAN: vlan(r.Network)})
	}
	for _, f := range s.FixedDevices {
		out = append(out, Client{f.Name, f.MAC, vlan(f.Network), f.Address})
	}
	for _, n := range s.Networks {
		p := n.Prefix.Addr().As4()
		for i := range crowd[n.ID] {
			out = append(out, Client{
				Name: fmt.Sprintf("%s-%d", words[(i+n.VLAN)%len(words)], i+1), VLAN: n.VLAN,
				MAC: address.MAC{0x00, 0x00, 0x5e, 0x10 + p[1]%0x40, p[2], byte(i) + p[3]},
			})
		}
	}
	if n, ok := s.Network("net-clinic"); ok {
		// A machine nobody recorded, on an address of its own outside the pool.
		out = append(out, Client{"sensor-4f", address.MAC{0, 0, 0x5e, 0, 0x53, 0xe7}, n.VLAN,
			netip.MustParseAddr("10.84.19.231")})
		// A tablet that makes its MAC up, and a machine on an address of the pool.
		out = append(out, Client{"tablet", address.MAC{0x0a, 0, 0x5e, 0, 0x53, 0x44}, n.VLAN, netip.Addr{}})
		out = append(out, Client{"kiosk", address.MAC{0, 0, 0x5e, 0, 0x53, 0xe8}, n.VLAN,
			netip.MustParseAddr("10.84.19.150")})
	}
	if n, ok := s.Network("net-garret"); ok {
		// A disk image on two machines, with one MAC.
		for _, at := range []string{"192.168.211.61", "192.168.211.62"} {
			out = append(out, Client{"workbench", address.MAC{0, 0, 0x5e, 0, 0x53, 0xc4}, n.VLAN,
				netip.MustParseAddr(at)})
		}
	}
	return out
}
