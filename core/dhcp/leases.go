package dhcp

import (
	"bytes"
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
	Class    string       `json:"class,omitempty"`    // option 60, where sent, else the first of option 124
	Subnet   netip.Prefix `json:"subnet"`
	Pool     string       `json:"pool"`
	State    State        `json:"state"`
	Since    time.Time    `json:"since"`
	Expires  time.Time    `json:"expires"`
	// AnsweredBy is the machine that answered at a declined address, where it is known.
	AnsweredBy address.MAC `json:"answeredBy,omitzero"`

	heapAt int
	ranked time.Time // the end it has in the heap, at or before Expires
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

// setAside reports whether somebody else was found at the address and it is not to be given out yet.
func (l *Lease) setAside(now time.Time) bool { return l.State == Declined && l.holds(now) }

// of reports whether the lease is a client's: by its identifier where either has one,
// else by the hardware address (RFC 2131 section 4.2).
func (l *Lease) of(id []byte, mac address.MAC) bool {
	if len(id) > 0 || len(l.ClientID) > 0 {
		return bytes.Equal(id, l.ClientID)
	}
	return l.MAC == mac
}

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
	// Changed is told of every lease before it is new or changed, and so before a
	// reply says so to its client. When it fails nothing is changed and the client
	// is not told; only a declined address is set aside all the same. nil for nobody.
	Changed func(Lease) error

	generation uint64

	byAddress map[uint32]*Lease // by number: a key without pointers costs the collector nothing
	byClient  map[client]*Lease
	ending    map[string]*endings // by pool
}

// NewLeaseDB is a lease database that holds the given leases. Of two leases of one
// address the later in the list counts.
func NewLeaseDB(leases ...Lease) *LeaseDB {
	b := &LeaseDB{byAddress: map[uint32]*Lease{}, byClient: map[client]*Lease{}, ending: map[string]*endings{}}
	for _, l := range leases {
		b.keep(l)
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

// Generation is another number after every change of a lease.
func (b *LeaseDB) Generation() uint64 { return b.generation }

// Len is the number of addresses the lease database knows something of.
func (b *LeaseDB) Len() int { return len(b.byAddress) }

// put makes l the lease of its address.
func (b *LeaseDB) put(l Lease) error {
	err := b.tell(l)
	if err == nil || l.State == Declined {
		b.keep(l)
	}
	return err
}

func (b *LeaseDB) keep(l Lease) {
	b.generation++
	b.drop(l.Address)
	kept := &l
	b.byAddress[address.Uint(l.Address)] = kept
	b.own(kept)
	b.rank(kept)
}

// own makes a lease the one its client is found by. A client has one address a subnet.
// One it had before stays in the lease database until it ends: the client may still be
// using it.
func (b *LeaseDB) own(l *Lease) {
	key := clientKey(l.Subnet, l.ClientID, l.MAC)
	if last := b.byClient[key]; l.State != Declined && (last == nil || !last.Since.After(l.Since)) {
		b.byClient[key] = l
	}
}

// rank puts a lease among the endings of its pool.
func (b *LeaseDB) rank(l *Lease) {
	pool := b.ending[l.Pool]
	if pool == nil {
		pool = &endings{}
		b.ending[l.Pool] = pool
	}
	l.ranked = l.Expires
	heap.Push(pool, l)
}

// forget takes a lease out of what it is found by but for its address.
func (b *LeaseDB) forget(l *Lease) {
	if key := clientKey(l.Subnet, l.ClientID, l.MAC); b.byClient[key] == l {
		delete(b.byClient, key)
	}
	heap.Remove(b.ending[l.Pool], l.heapAt)
}

// settle gives each lease to the pool and subnet that its address belongs to now, so that a
// pool in place of another goes on with what that one gave.
func (b *LeaseDB) settle(home func(netip.Addr) *pool) {
	for _, l := range b.byAddress {
		p := home(l.Address)
		if p == nil || p.ID == l.Pool && p.Subnet == l.Subnet {
			continue
		}
		b.forget(l)
		l.Pool, l.Subnet = p.ID, p.Subnet
		b.own(l)
		b.rank(l)
	}
}

func (b *LeaseDB) tell(l Lease) error {
	if b.Changed == nil {
		return nil
	}
	return b.Changed(l)
}

func (b *LeaseDB) drop(a netip.Addr) {
	l := b.byAddress[address.Uint(a)]
	if l == nil {
		return
	}
	b.generation++
	delete(b.byAddress, address.Uint(a))
	b.forget(l)
}

// change makes a lease what next says of its state, times and names. One that ends later,
// as with every renewal, keeps its place among the endings until that is asked for.
func (b *LeaseDB) change(l *Lease, next Lease) error {
	b.generation++
	if err := b.tell(next); err != nil {
		return err
	}
	next.heapAt, next.ranked = l.heapAt, l.ranked
	*l = next
	b.own(l)
	if l.Expires.Before(l.ranked) {
		l.ranked = l.Expires
		heap.Fix(b.ending[l.Pool], l.heapAt)
	}
	return nil
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

// cleanClass keeps of a client's class what can be shown and stored.
func cleanClass(s string) string { return strings.TrimSpace(clean(s)) }

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
