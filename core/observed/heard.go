package observed

import (
	"cmp"
	"net/netip"
	"time"

	"lithos/core/address"
	"lithos/core/site"
)

// Station is the source of what a switch says of its ports: something heard without
// an address, which tells where the others of its MAC are.
const Station = "station"

// heardWithin is how long after its last answer a neighbour still counts as there.
const heardWithin = 10 * time.Minute

// Heard is what one device told of one address or MAC, as it is kept.
type Heard struct {
	Device   string // id
	Source   string
	Address  netip.Addr
	MAC      address.MAC
	ClientID []byte
	Name     string
	Class    string // option 60, of a lease
	Pool     string // id, of a lease
	Port     string
	First    time.Time
	Last     time.Time
	Expires  time.Time // of a lease
	State    string    // of a lease, as its server calls it
	Bound    bool      // of a lease: it was not given back
}

// Sightings is what was heard at a site, by address. A lease and the neighbours
// that answer at its address with the same MAC are one.
func Sightings(s *site.Site, all []Heard, now time.Time) []Sighting {
	ports := map[address.MAC]string{}
	for _, h := range all {
		if d, ok := s.Device(h.Device); ok && h.Source == Station {
			ports[h.MAC] = h.Port + " of " + d.Name
		}
	}
	type place struct {
		at  netip.Addr
		mac address.MAC
	}
	var out []Sighting
	at := map[place]int{}
	for _, h := range all {
		if h.Source == Station {
			continue
		}
		v := h.sighting(s, now)
		v.Port = cmp.Or(ports[v.MAC], v.Port)
		key := place{v.Address, v.MAC}
		if i, dup := at[key]; dup {
			out[i] = merge(out[i], v)
			continue
		}
		at[key] = len(out)
		out = append(out, v)
	}
	return out
}

func (h Heard) sighting(s *site.Site, now time.Time) Sighting {
	v := Sighting{Address: h.Address, MAC: h.MAC, Name: h.Name, Source: h.Source, First: h.First, Last: h.Last,
		Live: now.Sub(h.Last) < heardWithin}
	if d, ok := s.Device(h.Device); ok {
		v.Device = d.Name
		if h.Port != "" {
			v.Port = h.Port + " of " + d.Name
		}
	}
	if h.Source == Lease && !h.Expires.IsZero() {
		v.Expires = h.Expires
		v.Live = h.Bound && h.Expires.After(now)
	}
	return v
}

// merge makes one sighting of a lease and the neighbour that holds it.
func merge(a, b Sighting) Sighting {
	if b.Source == Lease {
		a, b = b, a
	}
	a.Name, a.Port, a.Live = cmp.Or(a.Name, b.Name), cmp.Or(a.Port, b.Port), a.Live || b.Live
	if b.First.Before(a.First) {
		a.First = b.First
	}
	if b.Last.After(a.Last) {
		a.Last = b.Last
	}
	return a
}
