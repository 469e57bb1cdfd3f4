package move

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/site"
)

// Asked is a request as people type it. What is left empty stays as it is.
type Asked struct {
	Title    string       `json:"title" maxLength:"200" doc:"what people call the move"`
	Ticket   string       `json:"ticket,omitempty" maxLength:"200"`
	Shifts   []AskedShift `json:"shifts" maxItems:"200" doc:"the networks, each at most once"`
	Untagged []AskedRetag `json:"untagged,omitempty" maxItems:"200" doc:"untagged VLAN ids of ports"`
	Block    string       `json:"block,omitempty" maxLength:"200" doc:"the block that takes the place of the site's"`
	Night    string       `json:"night,omitempty" maxLength:"40" doc:"when the swap begins, in the site's zone"`
	Lease    string       `json:"lease,omitempty" maxLength:"40" doc:"the lease time before the swap, in minutes"`
	Way      string       `json:"way,omitempty" enum:"phases,beside,night"`
}

// AskedShift is what becomes of one network, as it is typed.
type AskedShift struct {
	Network string            `json:"network" doc:"id of the network"`
	Prefix  string            `json:"prefix,omitempty" maxLength:"200" doc:"its new subnet"`
	VLAN    string            `json:"vlan,omitempty" maxLength:"40" doc:"its new VLAN id"`
	Gateway string            `json:"gateway,omitempty" maxLength:"200" doc:"its new gateway"`
	Device  string            `json:"device,omitempty" doc:"id of the device that routes it from then on"`
	Parent  string            `json:"parent,omitempty" doc:"name of the interface that carries the new VLAN interface"`
	Rule    string            `json:"rule,omitempty" enum:"number,window,packed,standard"`
	Grow    bool              `json:"grow,omitempty" doc:"pools grow with the network"`
	To      map[string]string `json:"to,omitempty" doc:"new addresses by the old ones"`
	Into    string            `json:"into,omitempty" doc:"id of the network that it joins"`
	Pieces  []AskedPiece      `json:"pieces,omitempty" maxItems:"8"`
}

// AskedPiece is a network that a part of another becomes, as it is typed.
type AskedPiece struct {
	Name   string `json:"name" maxLength:"200"`
	Takes  string `json:"takes" maxLength:"200" doc:"the old addresses that go there"`
	Prefix string `json:"prefix" maxLength:"200"`
	VLAN   string `json:"vlan,omitempty" maxLength:"40"`
	// Gateway is the first free address of it where none is typed.
	Gateway string   `json:"gateway,omitempty" maxLength:"200"`
	Ports   []string `json:"ports,omitempty" maxItems:"1000" doc:"ids of ports of the old network that are in the new one"`
}

// AskedRetag is the untagged VLAN id of a port, as it is typed.
type AskedRetag struct {
	Interface string `json:"interface" doc:"id of a port"`
	VLAN      string `json:"vlan" maxLength:"40"`
}

// The ways of a move other than in phases with the leases shortened first.
const (
	Besides  = "beside" // the new beside the old first
	InANight = "night"  // a straight swap
)

const (
	longestLease = 24 * 60 // minutes
	lastVLAN     = 4094    // IEEE 802.1Q
)

// Read is the request that is meant. Every field that cannot be read is named, with what to type instead.
func (t Asked) Read(s *site.Site, now time.Time) (Request, error) {
	var r reading
	out := Request{Title: strings.TrimSpace(t.Title), Ticket: strings.TrimSpace(t.Ticket), OneNight: t.Way == InANight,
		Beside: t.Way == Besides, Block: r.prefix("block", t.Block)}
	out.Night = r.moment("night", t.Night, s.Location(), now)
	out.Lease = 60 * r.number("lease", t.Lease, longestLease, "a number of minutes")
	for i, sh := range t.Shifts {
		out.Shifts = append(out.Shifts, r.shift(fmt.Sprintf("shifts[%d].", i), sh, s))
	}
	for i, u := range t.Untagged {
		field := fmt.Sprintf("untagged[%d].vlan", i)
		if strings.TrimSpace(u.VLAN) == "" {
			r.wrong(field, "Type the VLAN id that it has without a tag from then on, 1 to %d", lastVLAN)
		}
		out.Untagged = append(out.Untagged, Retag{u.Interface, r.vlan(field, u.VLAN)})
	}
	if len(r.errors) > 0 {
		return Request{}, r.errors
	}
	return out, nil
}

// reading gathers what is wrong with the fields of a form.
type reading struct{ errors site.FieldErrors }

func (r *reading) wrong(field, format string, args ...any) {
	r.errors = append(r.errors, site.FieldError{Field: field, Says: fmt.Sprintf(format, args...)})
}

func (r *reading) shift(at string, t AskedShift, s *site.Site) Shift {
	out := Shift{Network: t.Network, Prefix: r.prefix(at+"prefix", t.Prefix), VLAN: r.vlan(at+"vlan", t.VLAN),
		Device: t.Device, Parent: t.Parent, Rule: t.Rule, Grow: t.Grow, To: t.To, Into: t.Into}
	var was netip.Prefix
	if n, ok := s.Network(t.Network); ok {
		was = n.Prefix
	}
	within := out.Prefix
	if !within.IsValid() {
		within = was
	}
	out.Gateway = r.address(at+"gateway", t.Gateway, within)
	for k, p := range t.Pieces {
		field := fmt.Sprintf("%spieces[%d].", at, k)
		takes, err := address.ParseRange(p.Takes, was)
		if err != nil {
			r.wrong(field+"takes", "%s", err)
		}
		if err := site.CheckText(p.Name); err != nil {
			r.wrong(field+"name", "%s", err)
		}
		piece := Piece{Name: strings.TrimSpace(p.Name), Takes: takes, Prefix: r.prefix(field+"prefix", p.Prefix),
			VLAN: r.vlan(field+"vlan", p.VLAN), Ports: p.Ports}
		piece.Gateway = r.address(field+"gateway", p.Gateway, piece.Prefix)
		out.Pieces = append(out.Pieces, piece)
	}
	return out
}

func (r *reading) address(field, text string, within netip.Prefix) netip.Addr {
	if strings.TrimSpace(text) == "" {
		return netip.Addr{}
	}
	a, err := address.ParseAddr(text, within)
	if err != nil {
		r.wrong(field, "%s", err)
	}
	return a
}

func (r *reading) prefix(field, text string) netip.Prefix {
	if strings.TrimSpace(text) == "" {
		return netip.Prefix{}
	}
	p, err := address.ParsePrefix(text)
	if err != nil {
		r.wrong(field, "%s", err)
	}
	return p
}

func (r *reading) vlan(field, text string) int { return r.number(field, text, lastVLAN, "a VLAN id") }

// number reads a number from 1 to most, 0 where nothing was typed.
func (r *reading) number(field, text string, most int, what string) int {
	if text = strings.TrimSpace(text); text == "" {
		return 0
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > most {
		r.wrong(field, "%q is not %s; type a number from 1 to %d", text, what, most)
		return 0
	}
	return n
}

// moment reads a time of the clock at the site, the zero time where nothing was typed.
func (r *reading) moment(field, text string, zone *time.Location, now time.Time) time.Time {
	at, err := site.ParseClock(text, zone, now)
	switch {
	case err != nil:
		r.wrong(field, "%s", err)
	case !at.IsZero() && at.Before(now):
		r.wrong(field, "that moment is past; type a later one, for example %s",
			now.In(zone).AddDate(0, 0, 1).Format(site.Clock))
	}
	return at
}
