package names

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"

	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// World is a site with its resolvers running, as its document has them. It is not safe for concurrent
// use.
type World struct {
	now     time.Time
	site    *site.Site
	book    *compile.Book
	leases  map[string][]dhcp.Lease
	common  compile.Everywhere
	servers map[string]*Server
	outside *Server
	live    Live                // nil where answers are computed
	read    map[string]ReadZone // by name
	beside  map[string][]yang.Program
}

// ReadZone is what the server of an outside zone held when it was read last.
type ReadZone struct {
	At      time.Time
	Serial  uint32
	Records []zone.Record
	// Whole says that the internet is answered from it. In a draft only what follows a line is: the rest is proposed.
	Whole bool
}

// Read gives the world what the servers of outside zones held, by the name of the zone.
func (w *World) Read(zones map[string]ReadZone) { w.read = zones }

// Beside gives the world the programs that listen for names beside the resolvers, by device id, as they were read last.
func (w *World) Beside(programs map[string][]yang.Program) { w.beside = programs }

// taken says which program keeps the resolver of a device from listening; empty for none.
func (w *World) taken(d *site.Device, s *Server) string {
	for _, p := range w.beside[d.ID] {
		if p.Holds(&s.settings) && !s.settings.StopOthers {
			return fmt.Sprintf("%s held port %d of %s when it was last read, and its resolver cannot listen beside it.",
				p.Name, p.Port, d.Name)
		}
	}
	return ""
}

// Live asks a name server for somebody, where the devices themselves answer. An invalid server is the
// device's own. took is how long that took; problem is why there is no answer.
type Live func(by Asking, server netip.Addr, name string, typ uint16) (m *dns.Msg, took time.Duration, problem string)

// NewLive is the world in which devices are asked; the document says who asks whom.
func NewLive(now time.Time, s *site.Site, book *compile.Book, ask Live) *World {
	w := NewWorld(now, s, book, nil)
	w.live = ask
	return w
}

// NewWorld sets the resolvers of a site up. book is its names, leases those that its devices hold, by
// device id.
func NewWorld(now time.Time, s *site.Site, book *compile.Book, leases map[string][]dhcp.Lease) *World {
	return &World{now: now, site: s, book: book, leases: leases, common: compile.Common(s),
		servers: map[string]*Server{}}
}

// server is the resolver of a device; ok is false for a device without one.
func (w *World) server(d *site.Device) (s *Server, ok bool) {
	if s, ok = w.servers[d.ID]; ok {
		return s, s != nil
	}
	c := yang.Config{Resolver: compile.Resolver(w.site, d.ID, w.book)}
	if c.Resolver.Settings == nil {
		w.servers[d.ID] = nil
		return nil, false
	}
	held := NewTable(HeldOf(compile.Device(w.site, d.ID).DHCP, c.Resolver.Settings.LeaseNames, w.leases[d.ID], w.now))
	s = NewServer(c, Around{Leases: func(time.Time) *Table { return held }, Up: w.up(d)})
	w.servers[d.ID] = s
	return s, true
}

// HeldOf is the names that the leases of a device carry: that of its reservation, else what the client
// says, made lawful. setting is which leases carry any.
func HeldOf(c yang.DHCPServer, setting string, leases []dhcp.Lease, now time.Time) []LeaseName {
	if setting == "" || setting == site.LeaseNamesOff {
		return nil
	}
	reserved := map[netip.Addr]string{}
	for _, r := range c.Reservation {
		reserved[r.Address] = r.Name
	}
	var out []LeaseName
	for i := range leases {
		l := &leases[i]
		own, is := reserved[l.Address]
		h := LeaseName{Address: l.Address, Since: l.Since, Expires: l.Expires, Reserved: is}
		if l.StateAt(now) != dhcp.Bound || !LeaseNames(setting, h) {
			continue
		}
		said := l.HostName
		if own != "" {
			said = own
		}
		if name, lawful := option.LawfulLabel(said); lawful {
			h.Name = name
			out = append(out, h)
		}
	}
	return out
}

// up asks the other servers of a device: another resolver of the site, or what the site's outside zones
// say. What others answer is not known.
func (w *World) up(from *site.Device) Up {
	return func(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
		if d, on, ok := w.site.HolderOf(to.Address); ok {
			if d.ID == from.ID {
				return nil, errors.New("it would ask itself")
			}
			s, has := w.server(d)
			if !has || !s.listens(on.Name, to) || w.taken(d, s) != "" {
				return nil, errors.New("nothing answers names there")
			}
			return s.Answer(w.now, q, Asker{From: addressOf(from, to.Address)}), nil
		}
		if compile.Find(w.book.Outside, zone.Tidy(q.Question[0].Name)) != nil && !to.Address.IsPrivate() {
			return w.world().Answer(w.now, q, Asker{Own: true}), nil
		}
		return nil, ErrBeyond
	}
}

// addressOf is the address that a device speaks to another from: one on its subnet, else its first.
func addressOf(d *site.Device, to netip.Addr) netip.Addr {
	var first netip.Addr
	for _, i := range d.Interfaces {
		for _, a := range i.Addresses {
			if a.Contains(to) {
				return a.Addr()
			}
			if !first.IsValid() && i.Kind != site.Uplink {
				first = a.Addr()
			}
		}
	}
	return first
}

// listens reports whether the server takes questions on an interface, at a port.
func (s *Server) listens(iface string, to yang.NameServer) bool {
	at := to.Port == s.settings.Port || to.TLSName != "" && to.Port == s.settings.TLSPort
	return s.settings.Enabled && at && slices.Contains(s.settings.Interface, iface)
}

// world is the zones seen from outside, as a server of the internet answers for them.
func (w *World) world() *Server {
	if w.outside == nil {
		c := yang.Config{Resolver: yang.Resolver{Settings: &yang.ResolverSettings{Enabled: true}}}
		serials := map[string]uint32{}
		for _, p := range w.book.Outside {
			z := compile.Zone(p, "ns."+p.Name)
			if read, ok := w.read[p.Name]; ok {
				serials[p.Name] = read.Serial
				if read.Whole {
					z.Record = nil
				}
				for _, r := range read.Records {
					_, follows := w.site.FollowerOf(zone.Absolute(r.Owner, p.Name))
					if read.Whole || follows && (r.Type == "A" || r.Type == "AAAA") {
						z.Record = append(z.Record, yang.Record{Owner: r.Owner, Type: r.Type, Data: r.Data, TTL: r.TTL})
					}
				}
			}
			c.Resolver.Zone = append(c.Resolver.Zone, z)
		}
		w.outside = NewServer(c, Around{Serials: serials})
	}
	return w.outside
}
