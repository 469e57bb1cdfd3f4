package names

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/zone"
)

// Every zone of the demonstration comes back as it was from each format that can carry it, and what a hosts
// file cannot is listed.
func TestZonesRoundTrip(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		b := compile.Names(s)
		for _, p := range append(b.Inside, b.Outside...) {
			want := compile.PublishedRecords(p)
			for _, format := range []string{ZoneFile, Transfer, CSV} {
				var out bytes.Buffer
				left, err := Write(&out, s, p, format, 7)
				require.NoError(t, err)
				assert.Empty(t, left)
				read, err := zone.Read(&out, p.Name)
				require.NoError(t, err, "%s %s", p.Name, format)
				assert.Empty(t, read.Left, "%s %s", p.Name, format)
				var got []zone.Record
				for _, r := range read.Records {
					rr, err := r.RR(p.Name, max(read.TTL, p.TTL(compile.Entry{})))
					require.NoError(t, err)
					same, _ := zone.Of(rr, p.Name)
					if format == Transfer && same.Owner == zone.Apex && same.Type == "NS" {
						continue // a server's own, made where the zone has none written
					}
					got = append(got, same)
				}
				expect := want
				if format == Transfer {
					expect = nil
					for _, r := range want {
						if r.Owner != zone.Apex || r.Type != "NS" {
							expect = append(expect, r)
						}
					}
				}
				assert.ElementsMatch(t, expect, got, "%s %s", p.Name, format)
			}
			var hosts bytes.Buffer
			left, err := Write(&hosts, s, p, HostsFile, 7)
			require.NoError(t, err)
			addresses := 0
			for _, e := range p.Entries {
				if (e.Type == "A" || e.Type == "AAAA") && e.Owner[0] != '*' {
					addresses++
				}
			}
			assert.Len(t, left, len(p.Entries)-addresses)
		}
	}
	s := scenario.Site("kelder-bridge")
	_, err := Write(&bytes.Buffer{}, s, compile.Names(s).Inside[0], "xml", 1)
	assert.ErrorContains(t, err, "choose zone, hosts, csv, transfer")
}
