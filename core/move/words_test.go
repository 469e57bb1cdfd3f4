package move_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/scenario"
	"lithos/core/wordstest"
)

// moves are moves of the made-up sites, each for one thing.
var moves = []struct {
	what, site string
	request    move.Request
}{
	{"another subnet and VLAN, and room to grow", "kelder-bridge", handsets("10.84.22.0/24")},
	{"beside the old one first", "kelder-bridge", move.Request{Night: night, Beside: true, Shifts: []move.Shift{{
		Network: "net-imaging", Prefix: netip.MustParsePrefix("10.84.21.0/26")}}}},
	{"in one night", "kelder-bridge", move.Request{Night: night, OneNight: true, Lease: 600, Shifts: []move.Shift{{
		Network: "net-imaging", Prefix: netip.MustParsePrefix("10.84.21.0/26")}}}},
	{"one joins another", "kelder-bridge", move.Request{Night: night, Shifts: []move.Shift{{Network: "net-imaging",
		Prefix: netip.MustParsePrefix("10.84.21.0/24")}, {Network: "net-cameras", Into: "net-imaging"}}}},
	{"a part becomes a network", "kelder-bridge", move.Request{Night: night, Shifts: []move.Shift{{
		Network: "net-clinic",
		Pieces: []move.Piece{{Name: "Tills", Takes: address.Range{From: netip.MustParseAddr("10.84.18.60"),
			To: netip.MustParseAddr("10.84.18.80")}, Prefix: netip.MustParsePrefix("10.84.22.0/26"), VLAN: 25}}}}}},
	{"packed, with one address chosen", "quill-street", move.Request{Night: night, Shifts: []move.Shift{{
		Network: "net-quill-things", Prefix: netip.MustParsePrefix("10.7.12.0/24"), Rule: move.Packed,
		To: map[string]string{"10.7.9.20": "+77"}}}}},
	{"onto the standard", "kelder-bridge", move.Request{Night: night, Shifts: []move.Shift{{Network: "net-clinic",
		Rule: move.ByUse}}}},
	{"a relayed network", "moss-end", move.Request{Night: night, Shifts: []move.Shift{{Network: "net-moss-theatre",
		Prefix: netip.MustParsePrefix("10.84.53.0/26"), VLAN: 148}}}},
	{"the network of the servers", "moss-end", move.Request{Night: night, Shifts: []move.Shift{{
		Network: "net-moss-bench",
		Prefix:  netip.MustParsePrefix("10.84.54.0/26")}}}},
	{"another device routes it", "kelder-bridge", move.Request{Night: night, Shifts: []move.Shift{{
		Network: "net-imaging",
		Device:  "dev-sw-core"}}}},
	{"a whole block", "the-garret", move.Request{Night: night, Block: netip.MustParsePrefix("10.50.0.0/24")}},
}

// clocked is a moment as it is read.
const clocked = "Mon 15:04"

// What a move does to whom, and when, is in a file, for somebody to read.
func TestMovesInWords(t *testing.T) {
	var got strings.Builder
	for _, c := range moves {
		s := scenario.Site(c.site)
		p, err := move.Of(s, c.request)
		require.NoError(t, err, c.what)
		fmt.Fprintf(&got, "# %s\nold %v, new %v, joined %v\n", c.what, p.Old(), p.New(), p.Joined())
		for _, r := range p.Rows {
			odd := ""
			if r.Odd {
				odd = " (odd)"
			}
			fmt.Fprintf(&got, "%s: %s > %s, %s, %s%s\n", r.What, r.Was, r.Will, r.How, r.When, odd)
		}
		for _, n := range p.Notes {
			fmt.Fprintf(&got, "mentions: %+v\n", n)
		}
		doc := s
		for _, ph := range p.Phases() {
			fmt.Fprintf(&got, "* %s, %s to %s: %s. %s\n", ph.Kind, ph.NotBefore.Format(clocked), ph.NotAfter.Format(
				clocked),
				ph.Title, ph.Says)
			for _, e := range ph.Edits {
				fmt.Fprintf(&got, "  %s\n", edit.Describe(doc, e, ph.Doc))
			}
			back, err := edit.Apply(ph.Doc, p.Back(ph)...)
			require.NoError(t, err)
			assert.Empty(t, edit.Between(s, back), "%s: taken back it is as before", ph.Title)
			doc = ph.Doc
		}
		for _, v := range p.Visits() {
			fmt.Fprintf(&got, "visit %s at %q: %s > %s, %v, undone %v\n", v.Name, v.At, v.Was, v.Will, v.Type, v.Undo)
		}
		got.WriteString("\n")
	}
	wordstest.Same(t, "moves.txt", got.String())
}
