// Package observed is what was observed at a site: leases and neighbours that
// devices told of. It is kept apart from the site document and never edited;
// this package says what to make of it.
package observed

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/site"
)

// Grain is the precision of "last seen" on a page. A finer one would change with every
// reading of a device.
const Grain = 30 * time.Second

// Sources of a sighting.
const (
	Lease     = "lease"
	Neighbour = "neighbour"
)

// Sighting is an address seen in use: leased by a server or heard of in a
// device's neighbour table.
type Sighting struct {
	Address netip.Addr  `json:"address"`
	MAC     address.MAC `json:"mac"`
	Name    string      `json:"name,omitempty"`
	Source  string      `json:"source" enum:"lease,neighbour"`
	Device  string      `json:"device"` // name of the device that said so
	// the port the client was heard on and its device, where known: "port2 of sw-core"
	Port    string    `json:"port,omitempty"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Expires time.Time `json:"expires,omitzero"` // of a lease
	Live    bool      `json:"live"`             // the lease stands, or the neighbour answered lately
}

// Randomised reports whether a MAC was made up by its machine (the U/L bit of
// IEEE 802), as phones do for each network. Such a MAC says nothing of the
// maker and may be another tomorrow.
func Randomised(m address.MAC) bool { return m[0]&2 != 0 && !m.IsGroup() }

// Kinds of remark.
const (
	Unrecorded = "unrecorded" // on an address nobody recorded
	InPool     = "in pool"    // holds an address of a pool that it did not lease
	Cloned     = "cloned"     // one MAC in two places at once
	Contested  = "contested"  // two MACs on one address
	MadeUp     = "randomised" // a MAC its machine made up
	Ignored    = "ignored"    // a person said that it needs no attention
	Elsewhere  = "elsewhere"  // a pinned client seen on another address of its network
	LeftOver   = "left over"  // a lease of a server that no longer serves the network
)

// Remark is one thing about a sighting that a person may want to know.
type Remark struct {
	Kind  string `json:"kind" enum:"unrecorded,in pool,cloned,contested,randomised,ignored,elsewhere,left over"`
	Title string `json:"title"` // in a few words
	Says  string `json:"says"`
	// Grave says that somebody loses a connection by it.
	Grave bool `json:"grave"`
}

var titles = map[string]string{
	Unrecorded: "Unrecorded", InPool: "In the pool without a lease", Cloned: "One MAC in two places",
	Contested: "Two machines on one address", MadeUp: "Made-up MAC", Ignored: "Ignored", Elsewhere: "Elsewhere",
	LeftOver: "Lease of a former server",
}

func (o *One) remark(kind, format string, args ...any) {
	grave := kind == Cloned || kind == Contested || kind == InPool
	o.Remarks = append(o.Remarks, Remark{kind, titles[kind], fmt.Sprintf(format, args...), grave})
}

// heardOn is where a sighting was heard: the port where it is known, and the device.
func (s Sighting) heardOn() string {
	return cmp.Or(s.Port, s.Device)
}

// Client is what tells a client from others: its MAC, and where that is not known its address.
func (v Sighting) Client() string {
	if v.MAC.IsZero() {
		return v.Address.String()
	}
	return v.MAC.String()
}

// One is what was seen at one address from one MAC, with what to make of it.
type One struct {
	Sighting
	Network string   `json:"network"` // id
	Known   string   `json:"known"`   // what the site file calls it, empty when it does not
	Ref     string   `json:"ref"`     // the part it is, as kind:id; empty for none
	Offered bool     `json:"offered"` // a pool hands out the address
	Remarks []Remark `json:"remarks"`
}

// Look judges everything seen at a site. Only live sightings are held against
// each other; older ones are listed.
func Look(s *site.Site, all []Sighting) []One {
	l := looker{site: s, macAt: map[address.MAC][]Sighting{}, atAddr: map[netip.Addr][]Sighting{},
		leased: map[netip.Addr]bool{}}
	for _, v := range all {
		if !v.Live || v.MAC.IsZero() {
			continue
		}
		l.macAt[v.MAC] = append(l.macAt[v.MAC], v)
		l.atAddr[v.Address] = append(l.atAddr[v.Address], v)
		l.leased[v.Address] = l.leased[v.Address] || v.Source == Lease
	}
	out := make([]One, 0, len(all))
	for _, v := range all {
		out = append(out, l.look(v))
	}
	slices.SortStableFunc(out, func(a, b One) int {
		return cmp.Or(a.Address.Compare(b.Address), b.Last.Compare(a.Last))
	})
	return out
}

type looker struct {
	site   *site.Site
	macAt  map[address.MAC][]Sighting
	atAddr map[netip.Addr][]Sighting
	leased map[netip.Addr]bool
}

func (l *looker) look(v Sighting) One {
	o := One{Sighting: v, Remarks: []Remark{}}
	n, ok := l.site.NetworkOf(v.Address)
	if ok {
		o.Network = n.ID
	}
	l.identify(&o)
	for _, p := range l.site.Pools {
		o.Offered = o.Offered || ok && p.Network == n.ID && p.Offers(v.Address)
	}
	if k, known := l.site.KnownClient(v.MAC); known {
		o.Known = cmp.Or(o.Known, k.Name)
		if k.Ignored != "" {
			o.remark(Ignored, "%s", k.Ignored)
			return o
		}
	}
	if !v.Live {
		return o
	}
	if Randomised(v.MAC) {
		o.remark(MadeUp, "The MAC is randomised and may change; a reservation for it will not hold.")
	}
	if twin, found := l.twin(v); found {
		o.remark(Cloned, "Heard on %s, and the same MAC at %s on %s. Two machines share it, and take each other's "+
			"address.", v.heardOn(), twin.Address, twin.heardOn())
	}
	l.contested(&o, v)
	if l.leftOver(v) {
		o.remark(LeftOver, "%s gave this lease and no longer serves the network. It counts until it ends.", v.Device)
	}
	switch {
	case v.Source == Neighbour && o.Offered && !l.leased[v.Address] && o.Ref == "":
		o.remark(InPool, "It holds an address of a pool without a lease: the pool may hand it to a client.")
	case o.Ref == "" && !o.Offered:
		o.remark(Unrecorded, "Nobody recorded what holds this address.")
	}
	l.misplaced(&o, n)
	return o
}

// identify finds the part of the site that a sighting is.
func (l *looker) identify(o *One) {
	for _, r := range l.site.Reservations {
		if r.Address == o.Address && (r.MAC == o.MAC || r.MAC.IsZero()) {
			o.Ref, o.Known = site.KindReservation+":"+r.ID, r.Name
		}
	}
	for _, f := range l.site.FixedDevices {
		if f.Address == o.Address && (f.MAC == o.MAC || f.MAC.IsZero()) {
			o.Ref, o.Known = site.KindFixedDevice+":"+f.ID, f.Name
		}
	}
	if d, i, ok := l.site.HolderOf(o.Address); ok {
		o.Ref, o.Known = site.KindInterface+":"+i.ID, d.Name
	}
}

// contested remarks that others have the address of v, too. One that came after another had gone took its place; a
// lease counts until it ends, for its client takes the address to be its own.
func (l *looker) contested(o *One, v Sighting) {
	macs, heard := []address.MAC{v.MAC}, []address.MAC{}
	for _, w := range l.atAddr[v.Address] {
		if l.leftOver(w) || v.until().Before(w.First) || w.until().Before(v.First) {
			continue
		}
		if !slices.Contains(macs, w.MAC) {
			macs = append(macs, w.MAC)
		}
		if w.Source != Lease && !slices.Contains(heard, w.MAC) {
			heard = append(heard, w.MAC)
		}
	}
	switch {
	case len(macs) == 1:
	case len(heard) == 0:
		o.remark(Contested, "%s is leased to %d machines. Each cuts the other off.", v.Address, len(macs))
	case len(heard) > 1:
		o.remark(Contested, "%d machines answer for %s. Each cuts the other off.", len(heard), v.Address)
	default:
		o.remark(Contested, "%s is leased to one machine, and another answers there. Each cuts the other off.",
			v.Address)
	}
}

// until is when what was seen has gone: a lease that counts goes when it ends.
func (v Sighting) until() time.Time {
	if v.Source == Lease && v.Live && v.Expires.After(v.Last) {
		return v.Expires
	}
	return v.Last
}

// leftOver reports whether a sighting is the lease of a device that serves its network no more,
// as after a pool has moved to another server: its client has asked elsewhere since, or will.
func (l *looker) leftOver(v Sighting) bool {
	n, ok := l.site.NetworkOf(v.Address)
	if !ok || v.Source != Lease {
		return false
	}
	return !slices.ContainsFunc(l.site.Pools, func(p site.Pool) bool {
		d, ok := l.site.Device(p.Server)
		return ok && p.Network == n.ID && p.Enabled && d.Name == v.Device
	})
}

// twin is another live sighting of the MAC that one machine cannot explain: in
// the same network, or heard by another device at the same time.
func (l *looker) twin(v Sighting) (Sighting, bool) {
	if v.MAC.IsZero() || l.router(v) || l.leftOver(v) {
		return Sighting{}, false
	}
	mine, _ := l.site.NetworkOf(v.Address)
	for _, o := range l.macAt[v.MAC] {
		theirs, _ := l.site.NetworkOf(o.Address)
		if o.Address != v.Address && (mine == theirs || o.Device != v.Device) && overlapping(v, o) &&
			!l.leftOver(o) {
			return o, true
		}
	}
	return Sighting{}, false
}

// router reports whether the address is a device's own: a device answers on
// many networks with one MAC.
func (l *looker) router(v Sighting) bool {
	_, _, ok := l.site.HolderOf(v.Address)
	return ok
}

// overlapping reports whether two sightings were there at one time: neither had
// gone when the other came. A client that moved leaves before it arrives.
func overlapping(a, b Sighting) bool { return sameTime(a, b) && a.Source == b.Source }

func sameTime(a, b Sighting) bool { return !a.Last.Before(b.First) && !b.Last.Before(a.First) }

// misplaced remarks a client that has a reservation in the network and is
// elsewhere in it.
func (l *looker) misplaced(o *One, n *site.Network) {
	if n == nil || o.MAC.IsZero() {
		return
	}
	for _, r := range l.site.Reservations {
		if r.MAC == o.MAC && r.Network == n.ID && r.Address != o.Address {
			o.Known = cmp.Or(o.Known, r.Name)
			o.remark(Elsewhere, "%s is reserved for it; it moves there when it next asks.", r.Address)
		}
	}
}
