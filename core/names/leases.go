package names

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"lithos/core/site"
	"lithos/core/zone"
)

// leased is about names of leases, and the reverse names of their addresses.
func (f *fall) leased(name string, typ uint16) (result, bool) {
	domain := f.settings.LeaseDomain
	if domain == "" || f.leases == nil {
		return result{}, false
	}
	table := f.leases(f.now)
	if a, ok := zone.Reversed(name); ok {
		h, held := table.ofAddress(a)
		if !held || !h.Expires.After(f.now) {
			return result{}, false
		}
		if n := f.nodeOf(name); n != nil && len(n.sets[dns.TypePTR])+len(n.sets[dns.TypeCNAME]) > 0 {
			return result{}, false
		}
		if owner := f.nodeOf(h.Name + "." + domain); owner != nil {
			return result{}, false // another has that name
		}
		return f.ofLease(typ, dns.TypePTR, h, &dns.PTR{Hdr: f.leaseHeader(name, dns.TypePTR, h),
			Ptr: dns.Fqdn(h.Name + "." + domain)}), true
	}
	label, ok := zone.Relative(name, domain)
	if !ok || zone.Labels(label) != 1 {
		return result{}, false
	}
	h, held := table.ofName(label)
	held = held && h.Expires.After(f.now)
	if n := f.nodeOf(name); n != nil && held { // what is written counts before a lease
		if f.traced() {
			f.step(
				Leases,
				Passed,
				"A lease says this name too",
				fmt.Sprintf("What is written counts before the lease of %s.",
					h.Address),
				"",
			)
		}
		return result{}, false
	}
	if !held {
		f.step(Leases, Passed, "No lease has this name", "Nobody is called "+label+".", "")
		return result{}, false
	}
	return f.ofLease(typ, dns.TypeA, h, &dns.A{Hdr: f.leaseHeader(name, dns.TypeA, h), A: h.Address.AsSlice()}), true
}

func (f *fall) ofLease(asked, has uint16, h LeaseName, rr dns.RR) result {
	if f.traced() {
		f.step(Leases, Answered, "A lease has this name", fmt.Sprintf("%s holds %s until %s.", h.Name, h.Address,
			h.Expires.Format("15:04:05")), "")
	}
	if asked != has {
		return result{own: true, soa: f.leaseSOA(rr.Header().Name)}
	}
	return result{answer: []dns.RR{rr}, own: true}
}

// leaseHeader makes a record of a lease, which nobody keeps longer than the lease lasts.
func (f *fall) leaseHeader(name string, typ uint16, h LeaseName) dns.RR_Header {
	left := uint32(h.Expires.Sub(f.now) / time.Second)
	return dns.RR_Header{Name: dns.Fqdn(name), Rrtype: typ, Class: dns.ClassINET,
		Ttl: min(uint32(f.settings.LocalTTL), left)}
}

func (f *fall) leaseSOA(name string) []dns.RR {
	if b := f.zoneOf(zone.Tidy(name)); b != nil {
		return []dns.RR{negative(b.soa)}
	}
	return []dns.RR{emptySOA(f.settings.LeaseDomain)}
}

// Table is the names that leases carry.
type Table struct {
	byName map[string]LeaseName
	byAddr map[netip.Addr]LeaseName
}

// NewTable makes the names of leases ready to be looked up. Of two leases of one name that of a
// reservation counts, then the older.
func NewTable(list []LeaseName) *Table {
	t := &Table{byName: map[string]LeaseName{}, byAddr: make(map[netip.Addr]LeaseName, len(list))}
	for _, h := range list {
		if was, had := t.byName[h.Name]; had && !before(h, was) {
			continue
		}
		t.byName[h.Name] = h
	}
	for _, h := range t.byName {
		t.byAddr[h.Address] = h
	}
	return t
}

func before(a, b LeaseName) bool {
	switch {
	case a.Reserved != b.Reserved:
		return a.Reserved
	case !a.Since.Equal(b.Since):
		return a.Since.Before(b.Since)
	}
	return a.Address.Less(b.Address)
}

// Clashes lists the leases whose name another carries, of those that NewTable is given.
func (t *Table) Clashes(list []LeaseName) []LeaseName {
	var out []LeaseName
	for _, h := range list {
		if t.byName[h.Name].Address != h.Address {
			out = append(out, h)
		}
	}
	return out
}

func (t *Table) ofName(name string) (LeaseName, bool) { h, ok := t.byName[name]; return h, ok }

func (t *Table) ofAddress(a netip.Addr) (LeaseName, bool) { h, ok := t.byAddr[a]; return h, ok }

// Len is how many names there are.
func (t *Table) Len() int { return len(t.byName) }

// LeaseNames is what of its leases a resolver gives names: see site.LeaseNamesAll.
func LeaseNames(setting string, h LeaseName) bool {
	return setting == site.LeaseNamesAll || setting == site.LeaseNamesReserved && h.Reserved
}
