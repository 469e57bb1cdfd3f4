package move

import (
	"net/netip"

	"lithos/core/compile"
	"lithos/core/observed"
	"lithos/core/option"
	"lithos/core/site"
)

// Server is an old address that a client was told of in an option, and the one that has taken its place.
type Server struct {
	Option string     `json:"option" doc:"name of the option"`
	Was    netip.Addr `json:"was"`
	Will   netip.Addr `json:"will"`
}

// Telling answers which clients were told old addresses by their leases.
type Telling struct {
	*Plan
	everywhere compile.Everywhere
	reserved   map[string]*site.Reservation // by network and MAC
}

// Telling reads what the site told its clients before the move.
func (p *Plan) Telling() *Telling {
	t := &Telling{p, compile.Common(p.Was), map[string]*site.Reservation{}}
	for i := range p.Was.Reservations {
		r := p.Was.Reservations[i]
		if !r.MAC.IsZero() {
			t.reserved[r.Network+r.MAC.String()] = r
		}
	}
	return t
}

// Servers lists the old addresses that the holder of a lease of before the move was told of, but for the gateway
// (option 3): that is of its own network, and its own address says whether it followed.
func (t *Telling) Servers(lease observed.Heard) []Server {
	pool, ok := t.Was.Pool(lease.Pool)
	if !ok {
		return nil
	}
	n, ok := t.Was.Network(pool.Network)
	if !ok {
		return nil
	}
	var out []Server
	own := t.Was.Own()
	for _, told := range t.everywhere.Effective(compile.For{Network: n, Pool: pool, Class: t.Was.ClassOf(lease.Class),
		Reservation: t.reserved[n.ID+lease.MAC.String()]}) {
		if told.Code == option.Router {
			continue
		}
		def, _ := own.Lookup(told.Code)
		for a := range site.Named(told.Value) {
			if to := t.m.now(a); to != a {
				out = append(out, Server{def.Name, a, to})
			}
		}
	}
	return out
}
