package edit_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// The form of each part of every site has what the part has, and one of a new part what it most likely is.
func TestTheFormsOfParts(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, k := range site.Kinds() {
			if len(k.Fields) == 0 {
				continue
			}
			k.Each(s, func(in site.Ref, list site.List, i int) bool {
				form, err := edit.FormOf(s, k.Name, list.ID(i), in, nil)
				require.NoError(t, err)
				assert.False(t, form.New)
				assert.Equal(t, "Change the "+k.Noun, form.Title)
				assert.Equal(t, in.ID != "", form.In != "")
				for n, f := range k.Fields {
					assert.Equal(t, f.Text(list.At(i)), form.Fields[n].Value, "%s %s", k.Name, f.Name)
				}
				return true
			})
		}
	}
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	field := func(f edit.Form, name string) edit.FormField {
		for _, one := range f.Fields {
			if one.Name == name {
				return one
			}
		}
		return edit.FormField{}
	}
	form, err := edit.FormOf(s, site.KindReservation, "", site.Ref{}, n)
	require.NoError(t, err)
	assert.True(t, form.New)
	assert.Equal(t, "10.84.18.20", field(form, "address").Value, "the next that is free")
	assert.Contains(t, field(form, "address").Hint, "In 10.84.18.0/23")
	device, err := edit.FormOf(s, site.KindDevice, "", site.Ref{}, n)
	require.NoError(t, err)
	assert.NotEmpty(t, field(device, "kind").Choices)
	bare, err := edit.FormOf(s, site.KindReservation, "", site.Ref{}, nil)
	require.NoError(t, err)
	assert.Empty(t, field(bare, "address").Value, "on no network yet")
	record, err := edit.FormOf(s, site.KindRecord, "", site.Ref{}, n)
	require.NoError(t, err)
	assert.Equal(t, "zone:zone-kelder", record.In, "the zone of the site's domain")
	exclusion, err := edit.FormOf(s, site.KindExclusion, "", site.Ref{}, n)
	require.NoError(t, err)
	p, ok := s.Pool(strings.TrimPrefix(exclusion.In, "pool:"))
	require.True(t, ok)
	assert.Equal(t, n.ID, p.Network)
	for _, c := range []struct{ kind, id, says string }{{"cupboard", "", "has a form"}, {site.KindSite, "", "already"},
		{site.KindPool, "gone", "is not at this site"}} {
		_, err := edit.FormOf(s, c.kind, c.id, site.Ref{}, nil)
		assert.ErrorContains(t, err, c.says)
	}
	s.Zones = nil
	_, err = edit.FormOf(s, site.KindRecord, "", site.Ref{}, n)
	assert.ErrorContains(t, err, "this site has none yet")
}

// Tables are read by their headings, whatever separates their cells, with what is quoted as one.
func TestTablesAreReadByTheirHeadings(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	const want = "10.84.18.80 00:00:5e:00:53:d0 dental-pc"
	for _, table := range []string{
		"Host name,MAC address,IP address\ndental-pc,00:00:5e:00:53:d0,10.84.18.80",
		"No;IPv4;Comment;Physical;Device\n1;.80;\"a; b\";00-00-5E-00-53-D0;dental-pc",
		"Name\tLease\tHardware\tIP\ndental-pc\t1 h\t0000.5e00.53d0\t10.84.18.80",
		"mac,,name,ip\n00:00:5e:00:53:d0,,dental-pc,10.84.18.80",
		"Zebra name,ip,mac\ndental-pc,10.84.18.80,00:00:5e:00:53:d0",
	} {
		lines, edits, err := edit.Paste(s, n, site.KindReservation, table, newID)
		require.NoError(t, err)
		require.Len(t, lines, 2)
		assert.Equal(t, edit.LineSkipped, lines[0].Outcome, table)
		l := lines[1]
		assert.Equal(t, want, fmt.Sprint(l.Address, " ", l.MAC, " ", l.Name), "%s: %s", table, l.Says)
		assert.Len(t, edits, 1)
	}
	for line, says := range map[string]string{
		"comment,owner\nx,y":                           "Two names",
		"ip,mac\nnowhere,00:00:5e:00:53:d0":            `"nowhere" is no address`,
		"ip,mac\n.80,nothing":                          `"nothing" is no MAC`,
		"ip,mac\n.80," + strings.Repeat("x", 41):       strings.Repeat("x", 40) + "…",
		"ip,mac\n.80," + strings.Repeat("x", 40):       strings.Repeat("x", 40) + `"`,
		"10.84.18.80 .81 00:00:5e:00:53:d0, dental-pc": "Two addresses",
		"00:00:5e:00:53:d0 00:00:5e:00:53:d1":          "Two MACs",
		"desk,dental,00:00:5e:00:53:d0":                "Two names, desk and dental",
	} {
		lines, _, err := edit.Paste(s, n, site.KindReservation, line, newID)
		require.NoError(t, err)
		assert.Contains(t, lines[len(lines)-1].Says, says, line)
	}
	for line, name := range map[string]string{
		"10.84.18.80 00:00:5e:00:53:d0, dental-pc":    "dental-pc",
		"\"dental-pc\",10.84.18.80,0000.5e00.53d0":    "dental-pc",
		"dental pc 10.84.18.80 00:00:5e:00:53:d0":     "dental-pc",
		"10.84.18.80,00:00:5e:00:53:d0":               "",
		"dental-pc,\"00:00:5e:00:53:d0\",10.84.18.80": "dental-pc",
	} {
		lines, _, err := edit.Paste(s, n, site.KindReservation, line, newID)
		require.NoError(t, err)
		assert.Equal(t, edit.LineAdds, lines[0].Outcome, "%s: %s", line, lines[0].Says)
		assert.Equal(t, name, lines[0].Name)
	}
	// A part without a name keeps the one it has.
	lines, edits, err := edit.Paste(s, n, site.KindReservation, "10.84.18.90 00:00:5e:00:53:10", newID)
	require.NoError(t, err)
	assert.Equal(t, edit.LineChanges, lines[0].Outcome)
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	for _, r := range after.Reservations {
		if r.Address.String() == "10.84.18.90" {
			assert.Equal(t, "recep-mfp", r.Name)
		}
	}
}

// As much may be pasted as its limits say.
func TestHowMuchMayBePasted(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for text, says := range map[string]string{
		strings.Repeat("#\n", edit.MaxPasteLines):   "",
		strings.Repeat("#\n", edit.MaxPasteLines+1): "lines; paste at most",
		"#" + strings.Repeat("x", edit.MaxPaste-1):  "",
		"#" + strings.Repeat("x", edit.MaxPaste):    "octets; paste at most",
	} {
		_, _, err := edit.PasteNames(s, "zone-kelder", text, newID)
		if says == "" {
			require.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, says)
		}
	}
}

// Names: what is recorded is not added again, another value of an alias changes it, an alias has nothing beside it, and
// lines are counted over parentheses.
func TestPastedNamesBesideRecordedOnes(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	lines, edits, err := edit.PasteNames(s, "zone-kelder", strings.Join([]string{
		"127.0.0.1 localhost", "10.84.16.30 one two", "dns,A,10.84.16.1", "dns,A,10.84.16.9", "remote,CNAME,gw-1,60",
		"remote,A,10.84.16.9", "dns,CNAME,edge", "text IN TXT (", "\"a\"", ")", "after IN A 10.84.16.31", "$TTL",
		"$ORIGIN",
		"$TTL soon", "10.84.16.30 one"}, "\n"), newID)
	require.NoError(t, err)
	var got []string
	for i, l := range lines {
		got = append(got, l.Outcome)
		assert.Equal(t, i+1, l.Number)
	}
	assert.Equal(t, []string{"skipped", "adds", "same", "adds", "changes", "refused", "refused", "adds", "skipped",
		"skipped",
		"adds", "refused", "refused", "refused", "skipped"}, got)
	assert.Equal(t, `"a"`, lines[8].Text)
	assert.Equal(t, "Belongs to line 8", lines[9].Says)
	assert.Equal(t, "one.kelder.larkrise.example 10.84.16.30", lines[1].Name+" "+lines[1].Address.String())
	again, _, err := edit.PasteNames(s, "zone-kelder", "dns,A,10.84.16.1,77\ndns,A,10.84.16.1", newID)
	require.NoError(t, err)
	assert.Equal(t, []string{"changes", "skipped"}, []string{again[0].Outcome, again[1].Outcome})
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	z, _ := after.Zone("zone-kelder")
	for _, r := range z.Records {
		if r.Owner == "two" || r.Owner == "one" {
			assert.Equal(t, r.Owner == "two", r.NoReverse, "reverse names the first of the line")
		}
	}
}

// An option that is sent to everybody is said so, also where only that changes.
func TestAnOptionForEverybody(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	in := site.Ref{Kind: site.KindSite, ID: s.ID}.String()
	change := func(s *site.Site, fields map[string]string) (*site.Site, string) {
		t.Helper()
		edits, err := edit.Read(s, edit.Entry{Kind: site.KindOption, ID: "42", In: in, Fields: fields})
		require.NoError(t, err)
		if len(edits) == 0 {
			return s, ""
		}
		says := edit.Describe(s, edits[0])
		after, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		return after, says
	}
	s, says := change(s, map[string]string{"value": "10.84.16.1", "always": "yes"})
	assert.Contains(t, says, "to 10.84.16.1, also to clients that do not ask for it")
	_, says = change(s, map[string]string{"value": "10.84.16.1"})
	assert.Empty(t, says, "who says nothing of it leaves it")
	s, says = change(s, map[string]string{"value": "10.84.16.2"})
	assert.True(t, strings.HasSuffix(says, "to 10.84.16.2"), says)
	s, says = change(s, map[string]string{"value": "10.84.16.2", "always": "no"})
	assert.Contains(t, says, ": only to clients that ask for it")
	s, says = change(s, map[string]string{"value": "10.84.16.2", "always": "yes"})
	assert.True(t, strings.HasSuffix(says, ", also to clients that do not ask for it"), says)
	stop, err := edit.Removing(s, site.Ref{Kind: site.KindOption, ID: "42"}, site.Ref{Kind: site.KindSite, ID: s.ID})
	require.NoError(t, err)
	says = edit.Describe(s, stop[0])
	assert.Contains(t, says, "Stop setting")
	assert.NotContains(t, says, "also to clients")
}

// Working out what goes with a part leaves the document as it is, and what goes is not changed as well.
func TestWhatGoesIsNotChangedAsWell(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		before, err := site.Encode(s)
		require.NoError(t, err)
		for _, k := range site.Kinds() {
			if k.Fixed() {
				continue
			}
			k.Each(s, func(in site.Ref, list site.List, i int) bool {
				edits, err := edit.Removing(s, site.Ref{Kind: k.Name, ID: list.ID(i)}, in)
				require.NoError(t, err)
				removed := map[site.Ref]bool{}
				for _, e := range edits {
					if e.Op == edit.Remove {
						assert.False(t, removed[e.Part], "%s goes twice", e.Part)
						removed[e.Part] = true
					}
				}
				for _, e := range edits {
					if e.Op == edit.Change {
						assert.False(t, removed[e.Part] || removed[e.In], "%s goes, and is changed", e.Part)
					}
				}
				return true
			})
		}
		after, err := site.Encode(s)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(before, after), name)
	}
}
