package move_test

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/move"
	"lithos/core/scenario"
	"lithos/core/site"
)

func TestReadAsked(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	r, err := move.Asked{Title: " Handsets to VLAN 131 ", Night: "2026-11-26T00:30", Lease: "20", Way: move.Besides,
		Shifts: []move.AskedShift{{Network: "net-handsets", Prefix: "10.84.22.0 255.255.255.0", VLAN: "131",
			Gateway: ".1", Pieces: []move.AskedPiece{{Name: "Doors", Takes: "137-139", Prefix: "10.84.23.0/28",
				VLAN:    "132",
				Gateway: "14", Ports: []string{"if-sw-core-4"}}}}},
		Untagged: []move.AskedRetag{{Interface: "if-sw-core-8", VLAN: "99"}}}.Read(s, night.AddDate(0, 0, -2))
	require.NoError(t, err)
	assert.Equal(t, move.Request{Title: "Handsets to VLAN 131", Lease: 1200, Beside: true,
		Night: time.Date(2026, 11, 26, 0, 30, 0, 0, s.Location()),
		Shifts: []move.Shift{{Network: "net-handsets", Prefix: prefixes("10.84.22.0/24")[0], VLAN: 131,
			Gateway: netip.MustParseAddr("10.84.22.1"), Pieces: []move.Piece{{Name: "Doors", VLAN: 132,
				Takes: address.Range{From: netip.MustParseAddr("10.84.16.137"),
					To: netip.MustParseAddr("10.84.16.139")},
				Prefix: prefixes("10.84.23.0/28")[0], Gateway: netip.MustParseAddr("10.84.23.14"),
				Ports: []string{"if-sw-core-4"}}}}},
		Untagged: []move.Retag{{Interface: "if-sw-core-8", VLAN: 99}}}, r)
}

// Every field that cannot be read is named at once, with what to type instead.
func TestReadAskedWrong(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	_, err := move.Asked{Night: "tonight", Lease: "0", Block: "10.84",
		Shifts: []move.AskedShift{{Network: "net-handsets", Prefix: "10.84.", VLAN: "4095", Gateway: "x",
			Pieces: []move.AskedPiece{{Name: "a\x07", Takes: "", Prefix: "/24", VLAN: "-1", Gateway: "1.2.3.4.5"}}}},
		Untagged: []move.AskedRetag{{Interface: "if-sw-core-8"}}}.Read(s, night)
	var wrong site.FieldErrors
	require.True(t, errors.As(err, &wrong))
	var fields []string
	for _, w := range wrong {
		fields = append(fields, w.Field)
		assert.NotEmpty(t, w.Says)
	}
	assert.ElementsMatch(t, []string{"night", "lease", "block", "shifts[0].prefix", "shifts[0].vlan",
		"shifts[0].gateway", "shifts[0].pieces[0].name", "shifts[0].pieces[0].takes", "shifts[0].pieces[0].prefix",
		"shifts[0].pieces[0].vlan", "shifts[0].pieces[0].gateway", "untagged[0].vlan"}, fields)
	for text, says := range map[string]string{"2026-11-25T22:30": "past", "2028-01-01T00:00": "more than a year"} {
		_, err = move.Asked{Night: text}.Read(s, night)
		assert.ErrorContains(t, err, says)
	}
}

// The ports of a piece are in its VLAN from then on, and its gateway is the one that was typed.
func TestSplitWithItsPorts(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	clinic, _ := s.Network("net-clinic")
	var port string
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if i.Kind == site.Port && i.Untagged == clinic.VLAN && len(i.Tagged) == 0 {
				port = i.ID
			}
		}
	}
	require.NotEmpty(t, port)
	asked := move.Asked{Shifts: []move.AskedShift{{Network: clinic.ID, Pieces: []move.AskedPiece{{Name: "Tills",
		Takes: "60-80", Prefix: "10.84.22.0/26", VLAN: "25", Gateway: ".62", Ports: []string{port}}}}}}
	r, err := asked.Read(s, night)
	require.NoError(t, err)
	p, err := move.Of(s, r)
	require.NoError(t, err)
	_, i, _ := p.Will.Interface(port)
	assert.Equal(t, 25, i.Untagged)
	tills, _ := p.Will.Network(clinic.ID + "-2")
	assert.Equal(t, "10.84.22.62", tills.Gateway.String())
	at := slices.IndexFunc(p.Will.Pools, func(p site.Pool) bool { return p.Network == tills.ID })
	require.GreaterOrEqual(t, at, 0, "its clients had a server, and the addresses it takes were in no pool")
	out := move.Simulate(s, []move.Client{{Name: "till-1", MAC: s.Reservations[slices.IndexFunc(s.Reservations,
		func(r *site.Reservation) bool { return r.ID == "res-till-1" })].MAC, Network: clinic.ID}}, acts(p))
	assert.Zero(t, out.Stranded)

	asked.Shifts[0].Pieces[0].Ports = []string{"if-sw-core-8"}
	r, err = asked.Read(s, night)
	require.NoError(t, err)
	_, err = move.Of(s, r)
	assert.ErrorContains(t, err, "not in Clinic floor without a tag")
}

func FuzzAsked(f *testing.F) {
	f.Add("10.84.22.0/24", "131", ".1", "137-139", "2026-11-27T22:30", "30")
	f.Add("10.84.22.0 255.255.255.0", " 4094", "10.84.22.1", "10.84.16.137 to 10.84.16.139", "", "1440")
	s := scenario.Site("kelder-bridge")
	f.Fuzz(func(t *testing.T, prefix, vlan, gateway, takes, at, lease string) {
		r, err := move.Asked{Night: at, Lease: lease, Block: prefix, Shifts: []move.AskedShift{{Network: "net-handsets",
			Prefix: prefix, VLAN: vlan, Gateway: gateway, Pieces: []move.AskedPiece{{Takes: takes, Prefix: prefix}}}}}.
			Read(s, night)
		if err != nil {
			var wrong site.FieldErrors
			require.True(t, errors.As(err, &wrong))
			return
		}
		sh := r.Shifts[0]
		assert.True(t, sh.VLAN >= 0 && sh.VLAN <= 4094 && r.Lease >= 0 && r.Lease <= 86400)
		assert.True(t, !sh.Prefix.IsValid() || sh.Prefix.Addr().Is4())
		assert.True(t, sh.Pieces[0].Takes.IsValid())
	})
}

// A subnet or block has a length of 8 to 30 and no host bits; a piece of at most 30.
func TestLengthsOfSubnets(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	said := func(text string, change func(*move.Request, netip.Prefix)) string {
		r := handsets("10.84.22.0/24")
		change(&r, netip.MustParsePrefix(text))
		_, err := move.Of(s, r)
		return fmt.Sprint(err)
	}
	for text, ok := range map[string]bool{"10.0.0.0/7": false, "10.0.0.0/8": true, "10.84.96.0/30": true,
		"10.84.96.0/31": false, "10.84.96.1/30": false, "2001:db8::/24": false} {
		block := said(text, func(r *move.Request, p netip.Prefix) { r.Block = p })
		assert.Equal(t, !ok, strings.Contains(block, "is not a block"), "%s: %s", text, block)
		subnet := said(text, func(r *move.Request, p netip.Prefix) { r.Shifts[0].Prefix = p })
		assert.Equal(t, !ok, strings.Contains(subnet, "is not a subnet"), "%s: %s", text, subnet)
	}
	for text, ok := range map[string]bool{"10.84.96.0/30": true, "10.84.96.0/31": false, "10.84.96.1/30": false} {
		piece := said(text, func(r *move.Request, p netip.Prefix) {
			r.Shifts[0].Pieces = []move.Piece{{Name: "Doors", Prefix: p, VLAN: 132}}
		})
		assert.Equal(t, !ok, strings.Contains(piece, "Type the subnet"), "%s: %s", text, piece)
	}
}

// Numbers begin with 1 and end with the largest there is.
func TestNumbersAsked(t *testing.T) {
	for text, ok := range map[string]bool{"0": false, "1": true, "4094": true, "4095": false, "-1": false, " ": true} {
		_, err := move.Asked{Night: "2026-11-26T00:30", Shifts: []move.AskedShift{{Network: "net-handsets",
			VLAN: text}}}.
			Read(scenario.Site("kelder-bridge"), night.AddDate(0, 0, -2))
		assert.Equal(t, ok, err == nil, "%s: %v", text, err)
	}
}
