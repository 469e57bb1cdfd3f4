package edit_test

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

func TestEverySiteFieldCanBeChanged(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	cases := []struct {
		entry edit.Entry
		says  string
	}{
		{edit.Entry{Kind: "site", ID: s.ID, Fields: map[string]string{"name": "Kelder Bridge", "domain": "KB.example"}},
			"Change site Kelder Bridge surgery: domain kb.example, was kelder.larkrise.example; name Kelder Bridge, " +
				"was Kelder Bridge surgery"},
		{edit.Entry{Kind: "site", ID: s.ID,
			Fields: map[string]string{"block": "10.84.16.0/20, 10.84.80.0 255.255.255.0", "timeZone": "Europe/Oslo"}},
			"Change site Kelder Bridge surgery: block also 10.84.80.0/24; time zone Europe/Oslo, was Europe/London"},
		{edit.Entry{Kind: "interface", ID: "if-gw-1-lan-48", In: "device:dev-gw-1",
			Fields: map[string]string{"addresses": "10.84.20.1/25, 10.84.21.1/24"}},
			"Change interface lan.48: addresses 10.84.20.1/25, 10.84.21.1/24, was 10.84.20.1/26"},
		{edit.Entry{Kind: "exclusion", ID: "excl-analyser", In: "pool:pool-clinic",
			Fields: map[string]string{"range": "120-129"}},
			"Change exclusion Analyser vendor, fixed by contract: range 10.84.18.120 – 10.84.18.129, was " +
				"10.84.18.120 – 10.84.18.127"},
		{edit.Entry{Kind: "fixed", ID: "fix-edge", Fields: map[string]string{"mac": ""}},
			"Change fixed device edge: MAC not set, was 00:00:5e:00:53:06"},
		{edit.Entry{Kind: "option", ID: "119", In: "site:" + s.ID,
			Fields: map[string]string{"value": "larkrise.example"}},
			"Set search list (option 119) on Kelder Bridge surgery to larkrise.example"},
		{edit.Entry{Kind: "option", ID: "42", In: "reservation:res-pbx",
			Fields: map[string]string{"value": "10.84.16.1"}}, "Set NTP servers (option 42) on pbx to 10.84.16.1"},
		{edit.Entry{Kind: "network", ID: "net-clinic", Fields: map[string]string{"gateway": ""}},
			"Change network Clinic floor: gateway not set, was 10.84.18.1"},
	}
	for _, c := range cases {
		edits, err := edit.Read(s, c.entry)
		require.NoError(t, err)
		require.Len(t, edits, 1)
		assert.Equal(t, c.says, edit.Describe(s, edits[0]))
		after, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		again, err := edit.Read(after, c.entry)
		require.NoError(t, err)
		assert.Empty(t, again, "entered again it changes nothing")
	}
}

func TestEveryPartHasAName(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for ref, want := range map[string]string{
		"site:site-kelder-bridge": "Kelder Bridge surgery", "customer:cust-larkrise": "Larkrise Veterinary",
		"standard:std-clinic": "Clinic standard",
		"network:net-bench":   "Bench", "pool:pool-clinic": "Clinic PCs", "reservation:res-pbx": "pbx",
		"fixed:fix-edge": "edge", "device:dev-gw-1": "gw-1",
		"interface:if-gw-1-wan": "wan", "exclusion:excl-analyser": "Analyser vendor, fixed by contract",
	} {
		name, ok := site.NameOf(s, site.ParseRef(ref))
		assert.True(t, ok, ref)
		assert.Equal(t, want, name)
	}
	s.Reservations[0].Name = ""
	name, _ := site.NameOf(s, site.Ref{Kind: "reservation", ID: s.Reservations[0].ID})
	assert.Equal(t, s.Reservations[0].Address.String(), name)
	for _, kind := range []string{"site", "network", "pool", "reservation", "fixed", "device", "interface", "exclusion",
		"planet"} {
		name, ok := site.NameOf(s, site.Ref{Kind: kind, ID: "none"})
		if kind != "site" {
			assert.False(t, ok)
			assert.Equal(t, "none", name)
		}
	}
}

// Whatever is typed into whichever field: no panic, and what is accepted makes a
// document that reads back and can be checked.
func FuzzEntry(f *testing.F) {
	f.Add("network", "name", "prefix", "Recovery", "10.84.20.64/26")
	f.Add("pool", "ranges", "enabled", "96-119, .130", "true")
	f.Add("reservation", "address", "mac", "57", "00-00-5E-00-53-1C")
	f.Add("exclusion", "range", "reason", "100-103", "why")
	f.Add("interface", "addresses", "vlan", "10.84.20.1 255.255.255.192", "4094")
	f.Add("option", "value", "x", "10.84.16.1, 10.84.16.10", "")
	owners := map[string]string{"interface": "device:dev-gw-1", "exclusion": "pool:pool-clinic",
		"option": "network:net-clinic"}
	ids := map[string]string{"network": "net-clinic", "pool": "pool-clinic", "reservation": "res-pbx",
		"fixed": "fix-edge", "exclusion": "excl-analyser", "interface": "if-gw-1-lan-48", "option": "6"}
	s := scenario.Site("kelder-bridge")
	f.Fuzz(func(t *testing.T, kind, field1, field2, text1, text2 string) {
		fields := map[string]string{field1: text1, field2: text2}
		if kind == "reservation" || kind == "fixed" {
			fields["network"] = "net-clinic"
		}
		edits, err := edit.Read(s, edit.Entry{Kind: kind, ID: ids[kind], In: owners[kind], Fields: fields})
		if fields := (site.FieldErrors)(nil); errors.As(err, &fields) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		after, err := edit.Apply(s, edits...)
		if err != nil {
			t.Fatal(err)
		}
		file, err := site.Encode(after)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := site.Read(bytes.NewReader(file)); err != nil {
			t.Fatal(err)
		}
		check.Site(after)
	})
}
