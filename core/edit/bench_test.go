package edit_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// campus is a site with one network of 65,536 addresses.
func campus() *site.Site {
	s := scenario.Site("kelder-bridge")
	s.Block = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}
	s.Networks = append(s.Networks,
		site.Network{ID: "net-campus", Name: "Campus", Prefix: netip.MustParsePrefix("10.100.0.0/16"), VLAN: 99})
	return site.Normal(s)
}

// lines are n reservations of the campus to paste, from the one numbered first.
func lines(first, n int) string {
	var b strings.Builder
	for i := first; i < first+n; i++ {
		fmt.Fprintf(&b, "10.100.%d.%d 02:00:5e:%02x:%02x:01 host-%d\n", 1+i/250, 1+i%250, i>>8&0xff, i&0xff, i)
	}
	return b.String()
}

func paste(tb testing.TB, s *site.Site, text string) *site.Site {
	tb.Helper()
	n, ok := s.Network("net-campus")
	require.True(tb, ok)
	_, edits, err := edit.Paste(s, n, site.KindReservation, text,
		func(line int) string { return fmt.Sprintf("res-%d-%d", len(s.Reservations), line) })
	require.NoError(tb, err)
	s, err = edit.Apply(s, edits...)
	require.NoError(tb, err)
	return s
}

// BenchmarkPaste reads and applies 5,000 lines, the first time and the fourth, and
// reads the same reservations as a site file.
func BenchmarkPaste(b *testing.B) {
	base := campus()
	first := paste(b, base, lines(0, 5000))
	fourth := paste(b, paste(b, first, lines(5000, 5000)), lines(10000, 5000))
	file, err := site.Encode(first)
	require.NoError(b, err)
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			paste(b, base, lines(0, 5000))
		}
	})
	b.Run("fourth", func(b *testing.B) {
		for b.Loop() {
			paste(b, fourth, lines(15000, 5000))
		}
	})
	b.Run("removed", func(b *testing.B) {
		var gone []edit.Edit
		for _, r := range first.Reservations {
			if r.Network == "net-campus" {
				value, err := json.Marshal(r)
				require.NoError(b, err)
				gone = append(gone, edit.Edit{Op: edit.Remove, Value: value,
					Part: site.Ref{Kind: site.KindReservation, ID: r.ID}})
			}
		}
		for b.Loop() {
			after, err := edit.Apply(fourth, gone...)
			require.NoError(b, err)
			require.Len(b, after.Reservations, len(fourth.Reservations)-5000)
		}
	})
	b.Run("as a site file", func(b *testing.B) {
		for b.Loop() {
			_, err := site.Read(bytes.NewReader(file))
			require.NoError(b, err)
		}
	})
}
