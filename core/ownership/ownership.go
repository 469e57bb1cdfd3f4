// Package ownership answers who had an address, a name or a network, over the revisions of a site.
package ownership

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/zone"
)

// Question is what is asked about: one of them is set.
type Question struct {
	Address netip.Addr
	Network netip.Prefix
	Name    string // whole, or of one word in the site's domain
}

// Ask reads what somebody types: an address, a prefix, or a name.
func Ask(text string) (Question, error) {
	text = strings.TrimSpace(text)
	if strings.Contains(text, "/") {
		p, err := address.ParsePrefix(text)
		return Question{Network: p.Masked()}, err
	}
	if a, err := netip.ParseAddr(text); err == nil && a.Is4() {
		return Question{Address: a}, nil
	}
	name := zone.Tidy(text)
	if text == "" || zone.CheckName(name) != nil {
		return Question{},
			errors.New("type an address, a prefix or a name, for example 10.84.18.57, 10.84.18.0/23 or plate-reader")
	}
	return Question{Name: name}, nil
}

// Owners is who has what is asked about in a site, in words and in order.
func (q Question) Owners(s *site.Site) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	switch {
	case q.Network.IsValid():
		for _, n := range s.Networks {
			if n.Prefix.Overlaps(q.Network) {
				vlan := "untagged"
				if n.VLAN != 0 {
					vlan = fmt.Sprintf("VLAN %d", n.VLAN)
				}
				add("%s %s, %s", n.Name, n.Prefix, vlan)
			}
		}
	case q.Address.IsValid():
		q.address(s, add)
	default:
		q.named(s, add)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (q Question) address(s *site.Site, add func(string, ...any)) {
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				if a.Addr() == q.Address {
					add("%s, on %s", d.Name, i.Name)
				}
			}
		}
	}
	for _, r := range s.Reservations {
		if r.Address == q.Address {
			who := r.Client
			if !r.MAC.IsZero() {
				who = r.MAC.String()
			}
			add("%s, reserved for %s", r.NameOrAddress(), who)
		}
	}
	for _, f := range s.FixedDevices {
		if f.Address == q.Address {
			add("%s, which holds it itself", f.Name)
		}
	}
	for _, p := range s.Pools {
		for _, x := range p.Exclusions {
			if x.Range.Contains(q.Address) {
				add("excluded from pool %s: %s", p.Name, x.Reason)
			}
		}
		if p.Offers(q.Address) {
			add("in pool %s", p.Name)
		}
	}
}

func (q Question) named(s *site.Site, add func(string, ...any)) {
	whole := q.Name
	if !strings.Contains(whole, ".") {
		whole = zone.Absolute(whole, s.Domain)
	}
	book := compile.Names(s)
	found := false
	for _, p := range slices.Concat(book.Inside, book.Outside) {
		for _, e := range p.Entries {
			if strings.EqualFold(p.Whole(e), whole) {
				found = true
				add("%s %s, %s", e.Type, e.Data, p.Side)
			}
		}
	}
	for _, r := range s.Reservations {
		if strings.EqualFold(r.Name, q.Name) && !found {
			add("the reservation of %s", r.Address)
		}
	}
	for _, f := range s.FixedDevices {
		if strings.EqualFold(f.Name, q.Name) && !found {
			add("the fixed device at %s", f.Address)
		}
	}
}

// Revision is a site as it was from a time on.
type Revision struct {
	Number int32
	At     time.Time
	By     string
	Site   *site.Site
}

// Holding is who had it, from one revision to another.
type Holding struct {
	Owners   []string   `json:"owners" doc:"in words; none where nobody had it"`
	Revision int32      `json:"revision" doc:"the first of these"`
	By       string     `json:"by,omitempty" doc:"who made that"`
	From     time.Time  `json:"from"`
	Until    *time.Time `json:"until,omitempty" doc:"none for now"`
}

// Seen is who was seen to have it, from when to when.
type Seen struct {
	Address string     `json:"address"`
	MAC     string     `json:"mac"`
	Name    string     `json:"name,omitempty" doc:"as the client said it"`
	Port    string     `json:"port,omitempty" doc:"that it was heard on, with its device"`
	Sure    string     `json:"sure" doc:"from what it is known, in words"`
	From    time.Time  `json:"from"`
	Until   *time.Time `json:"until,omitempty" doc:"none while it has it"`
}

// History is who had what is asked about: by the revisions of the site, and as it was seen.
type History struct {
	Recorded []Holding `json:"recorded"`
	Seen     []Seen    `json:"seen"`
}

// Over is who had what is asked about, over revisions from the oldest to the newest; the newest span first.
func (q Question) Over(revisions []Revision) []Holding {
	out := []Holding{}
	for _, r := range revisions {
		owners := q.Owners(r.Site)
		if n := len(out); n > 0 {
			if slices.Equal(out[n-1].Owners, owners) {
				continue
			}
			at := r.At
			out[n-1].Until = &at
		}
		if owners == nil {
			owners = []string{}
		}
		out = append(out, Holding{Owners: owners, Revision: r.Number, By: r.By, From: r.At})
	}
	slices.Reverse(out)
	return out
}
