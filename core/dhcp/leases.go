package dhcp

import (
	"container/heap"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
)

// State is what became of an address.
type State string

// The states of a lease.
const (
	Offered  State = "offered"  // held for the client that was offered it
	Bound    State = "bound"    // acknowledged
	Released State = "released" // given back by its client
	Declined State = "declined" // found in use by somebody else
	Expired  State = "expired"  // ended without being renewed
)

// Lease is one address of one client.
type Lease struct {
	Address  netip.Addr   `json:"address"`
	MAC      address.MAC  `json:"mac"`
	ClientID []byte       `json:"clientId,omitempty"` // option 61, where sent
	HostName string       `json:"hostName,omitempty"` // option 12, where sent
	Subnet   netip.Prefix `json:"subnet"`
	Pool     string       `json:"pool"`
	State    State        `json:"state"`
	Since    time.Time    `json:"since"`
	Expires  time.Time    `json:"expires"`
	heapAt   int
	ranked   time.Time // the end it has in the heap, at or before Expires
}

// StateAt is the state at a moment: a bound lease past its end has expired.
func (l *Lease) StateAt(now time.Time) State {
	if l.State == Bound && !l.Expires.After(now) {
		return Expired
	}
	return l.State
}

// holds reports whether the lease keeps its address from other clients.
func (l *Lease) holds(now time.Time) bool { return l.Expires.After(now) }

// client is who a lease belongs to: option 61 where sent, else the hardware
// address (RFC 2131 section 4.2), on one subnet.
type client struct {
	subnet uint32 // its first address; the subnets of one device do not overlap
	mac    address.MAC
	id     string
}

func clientKey(subnet netip.Prefix, id []byte, mac address.MAC) client {
	if len(id) > 0 {
		return client{subnet: address.Uint(subnet.Addr()), id: string(id)}
	}
	return client{subnet: address.Uint(subnet.Addr()), mac: mac}
}

// LeaseDB holds the leases of one server. It has at most one lease an address and
// so is bounded by the pools. It is not safe for concurrent use.
type LeaseDB struct {
	// Changed is told of every lease that is new or changed, before a reply says
	// so to its client; nil for nobody.
	Changed func(Lease)

	byAddress map[uint32]*Lease // by number: a key without pointers costs the collector nothing
	byClient  map[client]*Lease
	ending    map[string]*endings // by pool
}

// NewLeaseDB is a lease database that holds the given leases.
func NewLeaseDB(leases ...Lease) *LeaseDB {
	b := &LeaseDB{byAddress: map[uint32]*Lease{}, byClient: map[client]*Lease{}, ending: map[string]*endings{}}
	for _, l := range leases {
		b.put(l)
	}
	return b
}

// Leases lists every lease in address order, as copies.
func (b *LeaseDB) Leases() []Lease {
	out := make([]Lease, 0, len(b.byAddress))
	for _, l := range b.byAddress {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(x, y Lease) int { return x.Address.Compare(y.Address) })
	return out
}

// Len is the number of addresses the lease database knows something of.
func (b *LeaseDB) Len() int { return len(b.byAddress) }

func (b *LeaseDB) put(l Lease) *Lease {
	b.drop(l.Address)
	kept := &l
	b.byAddress[address.Uint(l.Address)] = kept
	if l.State != Declined {
		// A client has one address a subnet. One it had before stays in the lease database
		// until it ends: the client may still be using it.
		b.byClient[clientKey(l.Subnet, l.ClientID, l.MAC)] = kept
	}
	pool := b.ending[l.Pool]
	if pool == nil {
		pool = &endings{}
		b.ending[l.Pool] = pool
	}
	kept.ranked = kept.Expires
	heap.Push(pool, kept)
	b.tell(kept)
	return kept
}

func (b *LeaseDB) tell(l *Lease) {
	if b.Changed != nil {
		b.Changed(*l)
	}
}

func (b *LeaseDB) drop(a netip.Addr) {
	l := b.byAddress[address.Uint(a)]
	if l == nil {
		return
	}
	delete(b.byAddress, address.Uint(a))
	if key := clientKey(l.Subnet, l.ClientID, l.MAC); b.byClient[key] == l {
		delete(b.byClient, key)
	}
	heap.Remove(b.ending[l.Pool], l.heapAt)
}

// extend moves the end of a lease. One that moves later, as every renewal does,
// keeps its place among the endings until that is asked for.
func (b *LeaseDB) extend(l *Lease, state State, since, expires time.Time) {
	l.State, l.Since, l.Expires = state, since, expires
	if expires.Before(l.ranked) {
		l.ranked = expires
		heap.Fix(b.ending[l.Pool], l.heapAt)
	}
	b.tell(l)
}

// idlest is the lease of a pool that ended first, when it has ended.
func (b *LeaseDB) idlest(pool string, now time.Time) (*Lease, bool) {
	e := b.ending[pool]
	for e != nil && len(*e) > 0 && !(*e)[0].ranked.After(now) {
		top := (*e)[0]
		if top.ranked.Equal(top.Expires) {
			return top, true
		}
		top.ranked = top.Expires // it was extended since: its place is farther down
		heap.Fix(e, 0)
	}
	return nil, false
}

// endings is a heap of leases, the one that ends first on top, ties by address.
type endings []*Lease

func (e endings) Len() int { return len(e) }
func (e endings) Less(i, j int) bool {
	if e[i].ranked.Equal(e[j].ranked) {
		return e[i].Address.Less(e[j].Address)
	}
	return e[i].ranked.Before(e[j].ranked)
}
func (e endings) Swap(i, j int) {
	e[i], e[j] = e[j], e[i]
	e[i].heapAt, e[j].heapAt = i, j
}

// Push implements heap.Interface.
func (e *endings) Push(v any) {
	l := v.(*Lease)
	l.heapAt = len(*e)
	*e = append(*e, l)
}

// Pop implements heap.Interface.
func (e *endings) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// cleanName keeps of a client's option 12 what can be shown and stored.
func cleanName(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x21 || r > 0x7e {
			return -1
		}
		return r
	}, s[:min(len(s), 63)])
}

// Holder is the lease of an address, nil when the lease database knows none.
func (b *LeaseDB) Holder(a netip.Addr) *Lease { return b.byAddress[address.Uint(a)] }
