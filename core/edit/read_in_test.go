package edit_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// pasted reads lines into the zone of a site's domain.
func pasted(t *testing.T, text string) ([]edit.Line, *site.Site) {
	t.Helper()
	s := scenario.Site("kelder-bridge")
	var in string
	for _, z := range s.Zones {
		if z.Side == site.Inside && z.Name == s.Domain {
			in = z.ID
		}
	}
	n := 0
	lines, edits, err := edit.PasteNames(s, in, text, func(int) string {
		n++
		return "rec-pasted-" +
			string(rune('a'+n))
	})
	require.NoError(t, err)
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	return lines, after
}

func recordsOf(s *site.Site, owner string) (out []*site.Record) {
	for _, z := range s.Zones {
		for _, r := range z.Records {
			if r.Owner == owner && z.Name == s.Domain {
				out = append(out, r)
			}
		}
	}
	return out
}

// Number 25: what is pasted keeps what it says, or a line says what is not taken.
func Test25WhatIsPastedIsTakenAsItSays(t *testing.T) {
	lines, s := pasted(t, "\ufefffirst A 10.84.20.61\n$ttl 300\nsecond A 10.84.20.62\nthird 900 A 10.84.20.63\n"+
		"@ SOA ns h ( 1\n 2 3\n 4 5 ) ; timers\nlong 2000000 A 10.84.20.58\n$origin "+
		"deep.kelder.larkrise.example.\nx A 10.84.20.59\n"+
		"$generate 1-9 h$ A 10.84.20.$\n")
	require.Len(t, recordsOf(s, "first"), 1, "the mark at the beginning is none of the name")
	assert.Zero(t, recordsOf(s, "first")[0].TTL)
	assert.Equal(t, 300, recordsOf(s, "second")[0].TTL, "$TTL holds for what follows it")
	assert.Equal(t, 900, recordsOf(s, "third")[0].TTL)
	assert.Equal(t, 604_800, recordsOf(s, "long")[0].TTL, "what the site file takes")
	require.Len(t, recordsOf(s, "x.deep"), 1, "$origin in small letters as well")
	says := ""
	for _, l := range lines {
		says += l.Outcome + " " + l.Says + "\n"
	}
	assert.Contains(t, says, "A SOA is not taken")
	assert.Contains(t, says, "Belongs to line 5")
	assert.Contains(t, says, "$generate is not carried out")
}

// Number 26: each refused line says its own reason.
func Test26WhyALineIsRefused(t *testing.T) {
	for line, why := range map[string]string{
		"printer 10.0.0.300": "is no address", "10.84.20.300 printer": "is no address", "10.84.20.61": "has no name",
		"printer": "has no value", "127.0.0.1 localhost": "each machine's own",
		"::1 ip6-localhost": "each machine's own",
		"fe80::1 router":    "one link alone", "224.0.0.1 all": "a group", "a b c d": "It is no record",
		"printer A": "", "name with ( open": "parentheses are not closed",
	} {
		lines, _ := pasted(t, line)
		assert.Contains(t, lines[0].Says, why, line)
		assert.NotContains(t, lines[0].Says, "not a TTL", line)
		assert.NotEqual(t, edit.LineAdds, lines[0].Outcome, line)
	}
	for _, line := range []string{"10.84.20.61 printer", "printer 10.84.20.61", "printer,10.84.20.61",
		"10.84.20.61, printer",
		"printer\t10.84.20.61", "printer A 10.84.20.61", "*.any A 10.84.20.61", "*.any 10.84.20.61"} {
		lines, s := pasted(t, line)
		assert.Equal(t, edit.LineAdds, lines[0].Outcome, "%s: %s", line, lines[0].Says)
		assert.Len(t, append(recordsOf(s, "printer"), recordsOf(s, "*.any")...), 1, line)
	}
	_, s := pasted(t, "10.84.20.61 printer copier scanner")
	assert.False(t, recordsOf(s, "printer")[0].NoReverse, "the first name counts in reverse")
	assert.True(t, recordsOf(s, "copier")[0].NoReverse)
	assert.True(t, recordsOf(s, "scanner")[0].NoReverse)
	assert.False(t, strings.Contains(s.Domain, "_"))
}
