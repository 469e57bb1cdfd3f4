package move_test

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/scenario"
	"lithos/core/site"
)

// someSite is one of the scenario's, with a few more owners of addresses and texts that name some.
func someSite(t *rapid.T) *site.Site {
	s := scenario.Site(rapid.SampledFrom([]string{"kelder-bridge", "moss-end", "orchard-north", "the-yard",
		"quill-street", "hallin-road"}).Draw(t, "site"))
	for i := range rapid.IntRange(0, 12).Draw(t, "more") {
		n := s.Networks[rapid.IntRange(0, len(s.Networks)-1).Draw(t, "network")]
		a, ok := site.NextFree(s, &n)
		if !ok {
			continue
		}
		mac := address.MAC{0, 0, 0x5e, 0, 0x70, byte(i)}
		switch i % 4 {
		case 0:
			s.Reservations = append(s.Reservations, &site.Reservation{ID: fmt.Sprint("res-more-", i),
				Name:    fmt.Sprint("m", i),
				Network: n.ID, Address: a, MAC: mac})
		case 1:
			s.FixedDevices = append(s.FixedDevices, site.FixedDevice{ID: fmt.Sprint("fix-more-", i),
				Name:    fmt.Sprint("f", i),
				Network: n.ID, Address: a, MAC: mac, Note: "beside " + a.String()})
		case 2:
			s.Options = append(s.Options, site.Option{Code: uint8(224 + i), Value: "time " + a.String()})
		default:
			octets := a.As4()
			s.Options = append(s.Options, site.Option{Code: uint8(224 + i),
				Value: "01:04:" + hex.EncodeToString(octets[:])})
		}
	}
	return site.Normal(s)
}

// someMove moves some of a site's networks to places that are nobody's.
func someMove(t *rapid.T, s *site.Site) move.Request {
	r := move.Request{Title: "A move", Night: night, OneNight: rapid.Bool().Draw(t, "one night"),
		Beside: rapid.Bool().Draw(t, "beside")}
	for i, n := range s.Networks {
		if !rapid.Bool().Draw(t, "moves") || s.Networks[i].VLAN == 0 {
			continue
		}
		sh := move.Shift{Network: n.ID, Rule: rapid.SampledFrom([]string{move.SameNumber, move.InWindow, move.Packed}).
			Draw(t, "rule"), Grow: rapid.Bool().Draw(t, "grow")}
		if rapid.Bool().Draw(t, "renumbered") {
			bits := max(n.Prefix.Bits()-rapid.IntRange(0, 1).Draw(t, "wider"), 22)
			sh.Prefix = netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 200, byte(4 * i), 0}), bits).Masked()
		}
		if rapid.Bool().Draw(t, "tagged") {
			sh.VLAN = 300 + i
		}
		r.Shifts = append(r.Shifts, sh)
	}
	return r
}

// Whatever moves where: the phases lead to the intended site, nothing of it names an old address, every change is
// listed, and taking back gives the first document byte for byte.
func TestEveryMoveIsWholeAndTakenBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := someSite(t)
		first := encode(t, s)
		r := someMove(t, s)
		if len(r.Shifts) == 0 {
			return
		}
		p, err := move.Of(s, r)
		var wrong *move.Wrong
		if err != nil {
			if require.ErrorAs(t, err, &wrong); !strings.Contains(wrong.Says, "room") {
				t.Fatal(wrong.Says)
			}
			return
		}
		doc := s
		phases := p.Phases()
		for _, ph := range phases {
			if doc, err = edit.Apply(doc, ph.Edits...); err != nil {
				t.Fatalf("%s: %v", ph.Title, err)
			}
			normal := site.Normal(doc)
			if fmt.Sprint(doc.FixedDevices, doc.Pools) != fmt.Sprint(normal.FixedDevices, normal.Pools) {
				t.Fatalf("after the edits of %q parts are out of order", ph.Title)
			}
			if encode(t, doc) != encode(t, ph.Doc) {
				t.Fatalf("the edits of %q make something else of the site", ph.Title)
			}
			for _, g := range ph.Prove(func(string) bool { return true }).Gaps {
				if g.Kind == "collides" {
					t.Fatalf("%s, after step %d: %s", ph.Title, g.After, g.Says)
				}
			}
			back, err := edit.Apply(doc, p.Back(ph)...)
			if err != nil || encode(t, back) != first {
				t.Fatalf("taken back after %q the site differs: %v", ph.Title, err)
			}
		}
		if encode(t, doc) != encode(t, p.Will) {
			t.Fatal("after the last phase the site is not the intended one")
		}
		for l := range site.Mentioned(p.Will) {
			for _, old := range p.Old() {
				if !l.Words && l.Of(old) {
					t.Fatalf("%v still names %s: %s", l.Part, l.Address, l.Text)
				}
			}
		}
		listed := map[site.Ref]bool{}
		for _, row := range p.Rows {
			listed[row.Part] = true
		}
		for _, e := range edit.Between(s, p.Will) {
			if !listed[e.Part] {
				t.Fatalf("%v changes and is not listed", e.Part)
			}
		}
		if encode(t, s) != first {
			t.Fatal("the first document was written to")
		}
	})
}

// No two have one address, and each is of its network.
func TestEveryThreadEndsApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := someSite(t)
		p, err := move.Of(s, someMove(t, s))
		if err != nil {
			return
		}
		ends := map[netip.Addr]netip.Addr{}
		for _, th := range p.Threads {
			if other, twice := ends[th.To]; twice {
				t.Fatalf("%s and %s both become %s", other, th.From, th.To)
			}
			ends[th.To] = th.From
			n, ok := p.Will.Network(th.Target)
			if !ok || !address.Usable(n.Prefix).Contains(th.To) {
				t.Fatalf("%s becomes %s, which is not of %s", th.From, th.To, n.Prefix)
			}
		}
	})
}

func encode(t require.TestingT, s *site.Site) string {
	raw, err := site.Encode(s)
	require.NoError(t, err)
	return string(raw)
}
