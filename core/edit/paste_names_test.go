package edit_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// Lines of hosts files, CSV and zone files are read in any mixture, and each says what becomes of it.
func TestPasteNames(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	text := strings.Join([]string{
		"name,type,value,ttl",
		"10.84.16.20 files files2 far.example # the proxy",
		"mail,A,10.84.16.21,300",
		"portal,edge",
		"$TTL 1h",
		"wiki 60 IN CNAME edge",
		"  IN TXT \"the wiki\"",
		"$ORIGIN lab.kelder.larkrise.example.",
		"bench IN A 10.84.20.15",
		"remote,CNAME,gw-1",
		"_sip._udp,SRV,0 5 5060 pbx",
		"mail,A,10.84.16.21,300",
		"not a record",
		"www.other.example. IN A 10.84.16.20",
		"$GENERATE 1-4 h$ A 10.84.16.$",
		"zone IN SOA a b ( 1 2",
		"",
		"# nothing",
	}, "\n")
	lines, edits, err := edit.PasteNames(s, "zone-kelder", text, func(n int) string { return fmt.Sprintf("rec-%d", n) })
	require.NoError(t, err)
	var got []string
	for _, l := range lines {
		got = append(got, l.Outcome)
	}
	assert.Equal(t, []string{"skipped", "adds", "adds", "adds", "skipped", "adds", "refused", "skipped", "adds",
		"changes",
		"same", "skipped", "refused", "refused", "refused", "refused", "skipped", "skipped"}, got)
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	z, _ := after.Zone("zone-kelder")
	var names []string
	for _, r := range z.Records {
		names = append(names, r.Owner+" "+r.Type+" "+r.Data)
	}
	assert.Subset(t, names, []string{"files A 10.84.16.20", "files2 A 10.84.16.20", "mail A 10.84.16.21",
		"portal CNAME edge", "wiki CNAME edge", "bench.lab A 10.84.20.15", "remote CNAME gw-1"})
	_, _, err = edit.PasteNames(s, "gone", "x", nil)
	assert.ErrorContains(t, err, "is not a zone")
	_, _, err = edit.PasteNames(s, "zone-kelder", strings.Repeat("x\n", edit.MaxPasteLines+1), nil)
	assert.ErrorContains(t, err, "lines; paste at most")
}

func FuzzPasteNames(f *testing.F) {
	f.Add("10.84.16.20 files\nmail,A,10.84.16.21\nwiki 60 IN CNAME edge\n")
	s := scenario.Site("kelder-bridge")
	s.Reservations, s.FixedDevices, s.Pools = s.Reservations[:2], nil, nil // the fewer parts, the more is tried
	f.Fuzz(func(t *testing.T, text string) {
		lines, edits, err := edit.PasteNames(s, "zone-kelder", text, func(n int) string {
			return fmt.Sprintf("rec-%d",
				n)
		})
		if err != nil {
			return
		}
		for _, l := range lines {
			assert.NotEmpty(t, l.Says)
		}
		after, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		raw, err := site.Encode(after)
		require.NoError(t, err)
		_, err = site.Read(strings.NewReader(string(raw)))
		assert.NoError(t, err, "what was pasted is a site file")
	})
}
