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

func newID(line int) string { return fmt.Sprintf("new-%d", line) }

func TestPasteSaysWhatBecomesOfEveryLine(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	text := strings.Join([]string{
		"10.84.18.80, 00-00-5E-00-53-D0, dental-pc",
		"0000.5e00.53d1\t.81\tlobby-pc",
		"ward-screen 10.84.18.82 00:00:5e:00:53:d2",
		"# printers",
		"10.84.18.90 00:00:5e:00:53:10 recep-mfp",
		"10.84.18.26 00:00:5e:00:53:12 scale-2",
		"10.84.18.80 00:00:5e:00:53:d3 twice",
		"10.84.18.83 00:00:5e:00:53:d0 again",
		"10.84.18.57 00:00:5e:00:53:d4 taken",
		"10.84.18.1 00:00:5e:00:53:d5 gate",
		"10.84.20.9 00:00:5e:00:53:d6 elsewhere",
		"00:00:5e:00:53:d7 nowhere",
		"10.84.18.84 nobody",
		"10.84.18.85 10.84.18.86 00:00:5e:00:53:d8",
		"10.84.18.87 00:00:5e:00:53:d9 not_a_name",
		"",
	}, "\r\n")
	lines, edits, err := edit.Paste(s, n, site.KindReservation, text, newID)
	require.NoError(t, err)
	var got []string
	for _, l := range lines {
		got = append(got, l.Outcome+": "+l.Says)
	}
	assert.Equal(t, []string{
		"adds: New, at 10.84.18.80",
		"adds: New, at 10.84.18.81",
		"adds: New, at 10.84.18.82",
		"skipped: Nothing on this line",
		"changes: Moves here from 10.84.18.24",
		"same: Already recorded like this",
		"refused: 10.84.18.80 is on line 1 already",
		"refused: 00:00:5e:00:53:d0 is on line 1 already",
		"refused: 10.84.18.57 is the fixed device label-prn's",
		"refused: 10.84.18.1 is the gateway of Clinic floor",
		"refused: No host in 10.84.18.0/23 can hold 10.84.20.9",
		"adds: New, at the next free address, 10.84.18.20",
		"refused: No MAC; a reservation needs one, for example 00:00:5e:00:53:1c",
		"refused: Two addresses, 10.84.18.85 and 10.84.18.86; leave one",
		`adds: New, at 10.84.18.87; "not_a_name" is no host name, so it is called not-a-name`,
	}, got)
	assert.Len(t, edits, 6)
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	r, ok := after.Reservation("res-recep-mfp")
	require.True(t, ok)
	assert.Equal(t, "10.84.18.90", r.Address.String())
	again, none, err := edit.Paste(after, n, site.KindReservation, text, newID)
	require.NoError(t, err)
	assert.Empty(t, none, "pasted again it changes nothing")
	assert.Equal(t, edit.LineSame, again[0].Outcome)

	lines, edits, err = edit.Paste(s, n, site.KindFixedDevice,
		"10.84.18.99 label-2\n10.84.18.6 00:00:5e:00:53:44 vaccine-fridge", newID)
	require.NoError(t, err)
	assert.Equal(t, "New, at 10.84.18.99; inside a pool, so exclude it there", lines[0].Says)
	assert.Equal(t, "Moves here from 10.84.18.5", lines[1].Says)
	assert.Len(t, edits, 2)
	_, _, err = edit.Paste(s, n, site.KindReservation, strings.Repeat("x\n", edit.MaxPasteLines+1), newID)
	assert.ErrorContains(t, err, "lines")
	_, _, err = edit.Paste(s, n, site.KindReservation, strings.Repeat("x", edit.MaxPaste+1), newID)
	assert.ErrorContains(t, err, "octets")
}

// Whatever is pasted, every line is answered and the edits apply.
func FuzzPaste(f *testing.F) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	f.Add("10.84.18.80, 00-00-5E-00-53-D0, dental-pc\n.81 0000.5e00.53d1", true)
	f.Add("\x00\xff;;\t", false)
	f.Fuzz(func(t *testing.T, text string, fixed bool) {
		kind := site.KindReservation
		if fixed {
			kind = site.KindFixedDevice
		}
		lines, edits, err := edit.Paste(s, n, kind, text, newID)
		if err != nil {
			return
		}
		adds := 0
		for _, l := range lines {
			if l.Says == "" {
				t.Fatalf("line %d is not answered", l.Number)
			}
			if l.Outcome == edit.LineAdds || l.Outcome == edit.LineChanges {
				adds++
			}
		}
		if adds != len(edits) {
			t.Fatalf("%d lines change something and there are %d edits", adds, len(edits))
		}
		if _, err := edit.Apply(s, edits...); err != nil {
			t.Fatal(err)
		}
	})
}

func TestWhatAnInterfaceCarriesFollowsItsName(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	rename := func(id, name string) {
		edits, err := edit.Read(s,
			edit.Entry{Kind: "interface", ID: id, In: "device:dev-gw-1", Fields: map[string]string{"name": name}})
		require.NoError(t, err)
		s, err = edit.Apply(s, edits...)
		require.NoError(t, err)
	}
	rename("if-gw-1-lan", "inside")
	rename("if-gw-1-p2", "port2")
	_, vlan, _ := s.Interface("if-gw-1-lan-24")
	assert.Equal(t, "inside", vlan.Parent)
	_, group, _ := s.Interface("if-gw-1-lan")
	assert.Equal(t, []string{"p1", "port2"}, group.Members)
}

// What each kind's form may say of an interface, and what it may not.
func TestInterfaceForms(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for _, c := range []struct{ field, value, says string }{
		{"taggedVLANs", "24, 5000", "is not a VLAN id"}, {"untaggedVLAN", "0", "is not a VLAN id"},
		{"members", "p9", "is not a port of gw-1"},
		{"peer", "if-nowhere", "is not an interface of this site"}, {"permits", "dhcp, magic", "cannot be permitted"},
		{"relayTo", "10.84", "is not an IPv4 address"},
		{"mtu", "80", "type a number from 576 to 9000"}, {"method", "magic", "choose dhcp, fixed or pppoe"},
		{"translates", "net-nowhere", "is not a network of this site"},
		{"secret", "A Password!", "not the name of a kept password"}, {"uplinkGateway", "gw", "is not an IPv4 address"},
		{"kind", "bridge", "is not a kind of interface"},
	} {
		_, err := edit.Read(s, edit.Entry{Kind: "interface", ID: "if-gw-1-wan", In: "device:dev-gw-1",
			Fields: map[string]string{c.field: c.value}})
		var fields site.FieldErrors
		require.ErrorAs(t, err, &fields, c.field)
		assert.Equal(t, c.field, fields[0].Field)
		assert.Contains(t, fields[0].Says, c.says)
	}
	edits, err := edit.Read(s,
		edit.Entry{Kind: "interface", ID: "if-gw-1-p2", In: "device:dev-gw-1",
			Fields: map[string]string{"untaggedVLAN": "24", "taggedVLANs": "90 11,31", "method": "pppoe"}})
	require.NoError(t, err)
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	_, port, _ := after.Interface("if-gw-1-p2")
	assert.Equal(t, []int{11, 31, 90}, port.Tagged)
	assert.Nil(t, port.Uplink, "a port has no uplink facts, whatever is typed")

	for _, c := range []struct {
		entry edit.Entry
		says  string
	}{
		{edit.Entry{Kind: "definition", ID: "d", New: true,
			Fields: map[string]string{"code": "66", "name": "x", "type": "text"}}, "type a number from 224 to 254"},
		{edit.Entry{Kind: "definition", ID: "d", New: true,
			Fields: map[string]string{"code": "230", "name": "x", "type": "magic"}}, "is not a type"},
		{edit.Entry{Kind: "class", ID: "c", New: true,
			Fields: map[string]string{"name": "x", "match": "ward", "subOptions": "1 | A | address"}},
			"type code, name, type and value"},
		{edit.Entry{Kind: "class", ID: "c", New: true,
			Fields: map[string]string{"name": "x", "match": "ward", "subOptions": "1|A|text|a\n1|B|text|b"}},
			"is there twice"},
		{edit.Entry{Kind: "known", ID: "k", New: true, Fields: map[string]string{"name": "kiosk"}}, "a MAC is missing"},
		{edit.Entry{Kind: "device", ID: "d", New: true, Fields: map[string]string{"name": "sw", "kind": "toaster"}},
			"is not a kind of device"},
		{edit.Entry{Kind: "reservation", ID: "r", New: true,
			Fields: map[string]string{"network": "net-clinic", "address": "80"}}, "or give a client identifier"},
		{edit.Entry{Kind: "exclusion", ID: "x", New: true, In: "pool:pool-clinic",
			Fields: map[string]string{"range": "100", "reason": "r", "until": "31/3/2027"}}, "is not a date"},
		{edit.Entry{Kind: "pool", ID: "pool-clinic", Fields: map[string]string{"forClass": "class-none"}},
			"is not a vendor class"},
	} {
		_, err := edit.Read(s, c.entry)
		assert.ErrorContains(t, err, c.says)
	}
}
