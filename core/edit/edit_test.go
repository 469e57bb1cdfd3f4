package edit_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

func encode(t require.TestingT, s *site.Site) string {
	raw, err := site.Encode(s)
	require.NoError(t, err)
	return string(raw)
}

func read(t *testing.T, s *site.Site, e edit.Entry) []edit.Edit {
	t.Helper()
	edits, err := edit.Read(s, e)
	require.NoError(t, err)
	return edits
}

func TestStoryOfEntries(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	entries := []edit.Entry{
		{Kind: "network", ID: "net-recovery", New: true,
			Fields: map[string]string{"name": "Recovery", "prefix": "10.84.20.64/26", "vlan": "91", "gateway": ".65"}},
		{Kind: "interface", ID: "if-new", New: true, In: "device:dev-gw-1",
			Fields: map[string]string{"name": "lan.91", "parent": "lan", "vlan": "91", "addresses": "10.84.20.65/26"}},
		{Kind: "pool", ID: "pool-rec", New: true,
			Fields: map[string]string{"name": "Ward", "network": "net-recovery", "ranges": "80-119",
				"enabled": "true"}},
		{Kind: "exclusion", ID: "x-rec", New: true, In: "pool:pool-rec",
			Fields: map[string]string{"range": ".100 - .103", "reason": "Monitors"}},
		{Kind: "option", ID: "51", In: "pool:pool-rec", Fields: map[string]string{"value": "4h"}},
		{Kind: "reservation", ID: "res-rec", New: true,
			Fields: map[string]string{"network": "net-recovery", "address": "70", "mac": "0000.5e00.53b1",
				"name": "Pump-1"}},
		{Kind: "fixed", ID: "fix-rec", New: true,
			Fields: map[string]string{"network": "net-recovery", "address": "10.84.20.90", "name": "monitor"}},
	}
	var says []string
	for _, e := range entries {
		edits := read(t, s, e)
		next, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		says = append(says, edit.Describe(next, edits[0]))
		s = next
	}
	assert.Equal(t, []string{
		"Add network Recovery 10.84.20.64/26",
		"Add interface lan.91 10.84.20.65/26",
		"Add pool Ward 10.84.20.80 – 10.84.20.119",
		"Add exclusion Monitors 10.84.20.100 – 10.84.20.103",
		"Set lease time (option 51) on Ward to 4 hours",
		"Add reservation pump-1 10.84.20.70",
		"Add fixed device monitor 10.84.20.90",
	}, says)
	p, _ := s.Pool("pool-rec")
	assert.Equal(t, "dev-gw-1", p.Server, "the device with an interface there serves the pool")

	edits := read(t, s, edit.Entry{Kind: "pool", ID: "pool-rec", Fields: map[string]string{"enabled": "false"}})
	assert.Equal(t, "Change pool Ward: switched off", edit.Describe(s, edits[0]))
	assert.Empty(t, read(t, s, edit.Entry{Kind: "pool", ID: "pool-rec", Fields: map[string]string{"name": " Ward "}}))
	_, err := edit.Read(s, edit.Entry{Kind: "option", ID: "51", In: "pool:pool-rec",
		Fields: map[string]string{"value": " "}})
	assert.ErrorContains(t, err, "a value is missing", "removing an option is an act of its own")
	edits, err = edit.Removing(s, site.Ref{Kind: "option", ID: "51"}, site.Ref{Kind: "pool", ID: "pool-rec"})
	require.NoError(t, err)
	assert.Equal(t, "Stop setting lease time (option 51) on Ward", edit.Describe(s, edits[0]))

	gone, err := edit.Removing(s, site.Ref{Kind: "network", ID: "net-recovery"}, site.Ref{})
	require.NoError(t, err)
	after, err := edit.Apply(s, gone...)
	require.NoError(t, err)
	_, ok := after.Reservation("res-rec")
	assert.False(t, ok, "a network takes what lives on it along")
}

// What changes inside an uplink is said field by field, parts by their names, and
// a password not at all.
func TestUplinkChangesInWords(t *testing.T) {
	s := scenario.Site("the-garret")
	for want, fields := range map[string]map[string]string{
		"Change interface wan: another password": {"secret": "line-2"},
		"Change interface wan: MTU 1480, was ":   {"mtu": "1480"},
		"Change interface wan: translates ":      {"translates": ""},
	} {
		edits := read(t, s, edit.Entry{Kind: "interface", ID: "if-garret-wan", In: "device:dev-garret-rt",
			Fields: fields})
		require.Len(t, edits, 1)
		says := edit.Describe(s, edits[0])
		assert.True(t, strings.HasPrefix(says, want), says)
		for _, hidden := range []string{"line-2", "garret-line", "net-"} {
			assert.NotContains(t, says, hidden)
		}
	}
	p := scenario.Site("kelder-bridge")
	says := edit.Describe(p, read(t, p,
		edit.Entry{Kind: "pool", ID: "pool-clinic", Fields: map[string]string{"server": "dev-sw-core"}})[0])
	assert.Equal(t, "Change pool Clinic PCs: served by sw-core, was gw-1", says)
}

// A device goes with its cables, and its pools wait for another server.
func TestRemovingADevice(t *testing.T) {
	s := scenario.Site("moss-end")
	gone, err := edit.Removing(s, site.Ref{Kind: "device", ID: "dev-moss-srv"}, site.Ref{})
	require.NoError(t, err)
	after, err := edit.Apply(s, gone...)
	require.NoError(t, err)
	require.NotEmpty(t, after.Pools)
	for _, p := range after.Pools {
		assert.Empty(t, p.Server, p.Name)
	}
	for _, d := range after.Devices {
		for _, i := range d.Interfaces {
			if i.Peer != "" {
				_, _, ok := after.Interface(i.Peer)
				assert.True(t, ok, "the cable of %s of %s leads somewhere", i.Name, d.Name)
			}
		}
	}
}

func TestTypedMistakesNameTheField(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	cases := []struct {
		entry edit.Entry
		field string
		says  string
	}{
		{edit.Entry{Kind: "network", ID: "n", New: true,
			Fields: map[string]string{"name": "R", "prefix": "10.84.20.70/26"}}, "prefix",
			"has host bits set; type 10.84.20.64/26"},
		{edit.Entry{Kind: "network", ID: "n", New: true, Fields: map[string]string{"prefix": "10.84.20.64/26"}}, "name",
			"a network needs a name"},
		{edit.Entry{Kind: "network", ID: "n", New: true,
			Fields: map[string]string{"name": "R", "prefix": "10.84.20.64/26", "vlan": "4095"}}, "vlan",
			"type a number from 1 to 4094"},
		{edit.Entry{Kind: "reservation", ID: "r", New: true,
			Fields: map[string]string{"network": "net-clinic", "address": "300", "mac": "x"}}, "address",
			"is not an IPv4 address"},
		{edit.Entry{Kind: "reservation", ID: "r", New: true,
			Fields: map[string]string{"network": "net-clinic", "address": "30", "mac": "x"}}, "mac",
			"type twelve hex digits"},
		{edit.Entry{Kind: "reservation", ID: "r", New: true,
			Fields: map[string]string{"network": "net-nowhere", "address": "10.0.0.1", "mac": "00005e005301"}},
			"network", "is not a network of this site"},
		{edit.Entry{Kind: "fixed", ID: "f", New: true,
			Fields: map[string]string{"network": "net-clinic", "address": "30", "name": "no spaces"}}, "name",
			"is not a name"},
		{edit.Entry{Kind: "pool", ID: "pool-clinic", Fields: map[string]string{"ranges": "200-100"}}, "ranges",
			"runs backwards"},
		{edit.Entry{Kind: "exclusion", ID: "x", New: true, In: "pool:pool-clinic",
			Fields: map[string]string{"range": "100"}}, "reason", "needs a reason"},
		{edit.Entry{Kind: "exclusion", ID: "x", New: true, In: "pool:gone",
			Fields: map[string]string{"range": "100", "reason": "r"}}, "in", "is not a pool"},
		{edit.Entry{Kind: "option", ID: "51", In: "site:site-kelder-bridge",
			Fields: map[string]string{"value": "soon"}}, "value", "type for example 8 hours"},
		{edit.Entry{Kind: "option", ID: "42", In: "customer:cust-other",
			Fields: map[string]string{"value": "10.0.0.1"}}, "in", "sets no options at this site"},
		{edit.Entry{Kind: "pool", ID: "pool-clinic", Fields: map[string]string{"colour": "red"}}, "colour",
			`"colour" is not a field of pool`},
		{edit.Entry{Kind: "network", ID: "net-clinic", New: true,
			Fields: map[string]string{"name": "R", "prefix": "10.84.20.64/26"}}, "id", "cannot be the id"},
		{edit.Entry{Kind: "interface", ID: "i", New: true, In: "device:dev-gw-1",
			Fields: map[string]string{"name": "lan.9", "addresses": "10.0.0.1"}}, "addresses",
			"type an address and a length"},
		{edit.Entry{Kind: "site", ID: s.ID, Fields: map[string]string{"block": "10.84.16.1/20"}}, "block",
			"has host bits set; type 10.84.16.0/20"},
		{edit.Entry{Kind: "site", ID: s.ID, Fields: map[string]string{"timeZone": "Kelder"}}, "timeZone",
			"is not a time zone"},
		{edit.Entry{Kind: "planet", ID: "x"}, "kind", "is not a part of a site"},
	}
	for _, c := range cases {
		_, err := edit.Read(s, c.entry)
		var fields site.FieldErrors
		require.ErrorAs(t, err, &fields, "%v", c.entry)
		i := slices.IndexFunc(fields, func(f site.FieldError) bool { return f.Field == c.field })
		require.GreaterOrEqual(t, i, 0, "%v", err)
		assert.Contains(t, fields[i].Says, c.says)
	}
}

func TestSomebodyElsesWorkIsNotOverwritten(t *testing.T) {
	base := scenario.Site("kelder-bridge")
	mine := read(t, base, edit.Entry{Kind: "network", ID: "net-imaging", Fields: map[string]string{"vlan": "49"}})
	renamed := read(t, base, edit.Entry{Kind: "network", ID: "net-imaging", Fields: map[string]string{"name": "Scans"}})
	theirs := read(t, base, edit.Entry{Kind: "network", ID: "net-imaging", Fields: map[string]string{"vlan": "50"}})
	head, err := edit.Apply(base, theirs...)
	require.NoError(t, err)
	merged, lost := edit.Replay(head, slices.Concat(mine, renamed))
	require.Len(t, lost, 1)
	assert.Equal(t, "network:net-imaging: vlan is now 50, and was 48 when it was changed here", lost[0].Says)
	n, _ := merged.Network("net-imaging")
	assert.Equal(t, "Scans 50", fmt.Sprint(n.Name, " ", n.VLAN), "another field of the same network still applies")
	_, err = edit.Apply(head, mine...)
	assert.Error(t, err)
	for _, e := range []edit.Edit{
		{Op: edit.Add, Part: site.Ref{Kind: "network", ID: "net-imaging"}, Value: json.RawMessage(`{}`)},
		{Op: edit.Remove, Part: site.Ref{Kind: "pool", ID: "gone"}},
		{Op: edit.Change, Part: site.Ref{Kind: "exclusion", ID: "x"}, In: site.Ref{Kind: "pool", ID: "gone"}},
		{Op: edit.Add, Part: site.Ref{Kind: "pool", ID: "p"}, Value: json.RawMessage(`{"unknown":1}`)},
		{Op: "swap", Part: site.Ref{Kind: "pool", ID: "p"}},
	} {
		_, err := edit.Apply(base, e)
		assert.Error(t, err, "%v", e)
	}
}

// An edit that would leave a part of what somebody has removed no longer applies, and is told.
func TestNothingIsLeftWithoutWhatItIsOf(t *testing.T) {
	base := scenario.Site("kelder-bridge")
	mine := read(t, base, edit.Entry{Kind: "reservation", ID: "res-new", New: true, Fields: map[string]string{
		"network": "net-imaging", "address": "10.84.20.20", "mac": "02005e000001", "name": "scanner"}})
	other := read(t, base, edit.Entry{Kind: "network", ID: "net-clinic", Fields: map[string]string{"name": "Clinic"}})
	theirs, err := edit.Removing(base, site.Ref{Kind: site.KindNetwork, ID: "net-imaging"}, site.Ref{})
	require.NoError(t, err)
	head, err := edit.Apply(base, theirs...)
	require.NoError(t, err)
	merged, lost := edit.Replay(head, slices.Concat(mine, other))
	require.Len(t, lost, 1)
	assert.Contains(t, lost[0].Says, "net-imaging is no longer there")
	_, there := merged.Reservation("res-new")
	assert.False(t, there)
	n, _ := merged.Network("net-clinic")
	assert.Equal(t, "Clinic", n.Name)
	same, none := edit.Replay(base, slices.Concat(mine, other))
	assert.Empty(t, none)
	_, there = same.Reservation("res-new")
	assert.True(t, there)
}

// randomEdit draws an edit that applies to s.
func randomEdit(t *rapid.T, s *site.Site, i int) []edit.Edit {
	e := edit.Entry{ID: fmt.Sprintf("new-%d", i), New: true}
	host := fmt.Sprint(rapid.IntRange(1, 254).Draw(t, "host"))
	switch rapid.IntRange(0, 5).Draw(t, "kind") {
	case 0:
		e.Kind, e.Fields = "reservation",
			map[string]string{"network": "net-clinic", "address": host, "mac": "02005e0000" + fmt.Sprintf("%02x", i)}
	case 1:
		e.Kind, e.Fields = "fixed", map[string]string{"network": "net-clinic", "address": host, "name": "dev-" + host}
	case 2:
		e.Kind, e.In, e.Fields = "exclusion", "pool:pool-clinic", map[string]string{"range": host, "reason": "because"}
	case 3:
		e.Kind, e.ID, e.New, e.Fields = "network", "net-imaging", false, map[string]string{"vlan": host}
	case 4:
		e.Kind, e.ID, e.New, e.In, e.Fields = "option", "51", false, "network:net-clinic",
			map[string]string{"value": host + " hours"}
	default:
		if len(s.Reservations) == 0 {
			return nil
		}
		r := s.Reservations[rapid.IntRange(0, len(s.Reservations)-1).Draw(t, "which")]
		edits, _ := edit.Removing(s, site.Ref{Kind: "reservation", ID: r.ID}, site.Ref{})
		return edits
	}
	edits, err := edit.Read(s, e)
	if err != nil {
		t.Fatalf("%v: %v", e, err)
	}
	return edits
}

// Applying edits and undoing them one after the other gives back every document
// on the way, byte for byte, and the base is never written to.
func TestUndoIsReplayWithoutTheLast(t *testing.T) {
	base := scenario.Site("kelder-bridge")
	before := encode(t, base)
	rapid.Check(t, func(t *rapid.T) {
		steps := [][]edit.Edit{}
		states := []string{before}
		now := base
		for i := range rapid.IntRange(1, 8).Draw(t, "n") {
			edits := randomEdit(t, now, i)
			next, err := edit.Apply(now, edits...)
			if err != nil {
				t.Fatal(err)
			}
			now = next
			steps, states = append(steps, edits), append(states, encode(t, now))
		}
		for n := len(steps); n >= 0; n-- {
			again, err := edit.Apply(base, slices.Concat(steps[:n]...)...)
			if err != nil {
				t.Fatal(err)
			}
			if encode(t, again) != states[n] {
				t.Fatalf("undo to %d edits gave another document", n)
			}
		}
		if encode(t, base) != before {
			t.Fatal("the base was written to")
		}
	})
}

// Thousands of edits of one list copy it once: what is allocated grows with the
// edits, not with their product with what is there.
func TestAttackFourthPasteIsQuadratic(t *testing.T) {
	base := campus()
	first := paste(t, base, lines(0, 1000))
	fourth := paste(t, paste(t, first, lines(1000, 1000)), lines(2000, 1000))
	n, _ := base.Network("net-campus")
	_, edits, err := edit.Paste(fourth, n, site.KindReservation, lines(3000, 1000),
		func(line int) string { return fmt.Sprintf("res-new-%d", line) })
	require.NoError(t, err)
	require.Len(t, edits, 1000)
	allocated := func(s *site.Site) uint64 {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := edit.Apply(s, edits...)
		runtime.ReadMemStats(&after)
		require.NoError(t, err)
		return after.TotalAlloc - before.TotalAlloc
	}
	assert.Less(t, allocated(fourth), 3*allocated(base), "with four times as many there")
}

// However many parts of a list are given other places at once, the list is in the order of the normal form again.
func TestChangedPartsTakeTheirPlaces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		octets := rapid.Permutation([]int{4, 9, 16, 18, 20, 22, 57, 122, 200, 230}).Draw(t, "addresses")
		at := func(o int) netip.Addr { return netip.AddrFrom4([4]byte{10, 84, 16, byte(o)}) }
		s := &site.Site{ID: "s", Networks: []site.Network{{ID: "n", Prefix: netip.MustParsePrefix("10.84.16.0/24")}}}
		for i, o := range octets {
			s.FixedDevices = append(s.FixedDevices, site.FixedDevice{ID: fmt.Sprint("fix-", i),
				Name: fmt.Sprint("d", i), Network: "n", Address: at(o)})
		}
		s = site.Normal(s)
		var edits []edit.Edit
		for i := range rapid.IntRange(1, 8).Draw(t, "changed") {
			was, _ := s.FixedDevice(fmt.Sprint("fix-", i))
			now := *was
			now.Address = at(rapid.IntRange(1, 254).Draw(t, "goes to"))
			if e, ok := edit.Changing(site.KindFixedDevice, was.ID, site.Ref{}, *was, now); ok {
				edits = append(edits, e)
			}
		}
		got, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		require.Equal(t, site.Normal(got), got)
	})
}

// Of an edit that clashes, whatever it does and to which kind of part: what was before both, what is there now and what
// it makes of it are told as values. Mine, theirs and another can be had.
func Test55AClashIsToldAndDecidedByValues(t *testing.T) {
	was := scenario.Site("kelder-bridge")
	option := func(value string) site.Option { return site.Option{Code: 51, Value: value} }
	net := site.Ref{Kind: site.KindNetwork, ID: "net-imaging"}
	setting := edit.Adding(site.KindOption, "51", net, option("4 hours"))
	res := site.Ref{Kind: site.KindReservation, ID: "res-xray-plate"}
	plate, _ := was.Reservation(res.ID)
	renamed := edit.Edit{Op: edit.Change, Part: res, Value: mustJSON(t, with(*plate, "xray-mine")),
		Fields: []edit.Field{{Name: "name", From: mustJSON(t, plate.Name), To: mustJSON(t, "xray-mine")}}}
	gone := edit.Edit{Op: edit.Remove, Part: res, Value: mustJSON(t, plate)}
	fresh := edit.Adding(site.KindReservation, "res-new", site.Ref{}, &site.Reservation{ID: "res-new",
		Network: "net-waiting", Name: "kiosk", Address: netip.MustParseAddr("10.84.24.20"),
		MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 0xe1}})
	theirs := edit.Edit{Op: edit.Change, Part: res,
		Fields: []edit.Field{{Name: "name", From: mustJSON(t, plate.Name), To: mustJSON(t, "xray-theirs")}}}
	waiting, _ := was.Network("net-waiting")
	for _, c := range []struct {
		what         string
		mine, theirs edit.Edit
		told         string // field: before, theirs, mine
		typed        map[string]string
		wins, other  string // what mine and another leave
	}{
		{"set by both", setting, edit.Adding(site.KindOption, "51", net, option("8 hours")),
			"lease time: not set, 8 hours, 4 hours", map[string]string{"value": "2 hours"}, "4 hours", "2 hours"},
		{"changed by both", renamed, theirs, "name: xray-plate, xray-theirs, xray-mine",
			map[string]string{"name": "xray-other"}, "xray-mine", "xray-other"},
		{"changed here, removed there", renamed, gone, "name: xray-plate, removed, xray-mine",
			map[string]string{"name": "xray-other"}, "xray-mine", "xray-other"},
		{"removed here, changed there", gone, theirs, "name: xray-plate, xray-theirs, removed",
			map[string]string{"name": "xray-other"}, "", "xray-other"},
		{"added here in what was removed there", fresh,
			edit.Edit{Op: edit.Remove, Part: site.Ref{Kind: site.KindNetwork, ID: waiting.ID}, Value: mustJSON(t,
				waiting)},
			"network: not there, not there, Waiting room",
			map[string]string{"network": "net-imaging", "address": "10.84.20.50"}, "none", "kiosk"},
	} {
		now, err := edit.Apply(was, c.theirs)
		require.NoError(t, err, c.what)
		_, lost := edit.Replay(now, []edit.Edit{c.mine})
		require.Len(t, lost, 1, c.what)
		assert.NotContains(t, edit.Why(was, now, lost[0]), "net-", "names, not ids")
		var told []string
		for _, v := range edit.Threes(was, now, c.mine) {
			told = append(told, v.Field+": "+v.Base+", "+v.Theirs+", "+v.Mine)
			require.NotNil(t, v.Another, c.what)
			assert.Contains(t, c.typed, v.Another.Name, c.what)
		}
		assert.Contains(t, told, c.told, c.what)
		holds := func(s *site.Site) string {
			var held struct{ Name, Value string }
			if raw := edit.PartOf(s, c.mine); raw != nil {
				require.NoError(t, json.Unmarshal(raw, &held))
			}
			return held.Name + held.Value
		}
		if over, ok := edit.Over(now, c.mine); assert.Equal(t, c.wins != "none", ok, c.what) && ok {
			after, err := edit.Apply(now, over)
			require.NoError(t, err, c.what)
			assert.Equal(t, c.wins, holds(after), c.what)
			assert.True(t, edit.Made(after, c.mine), c.what)
		}
		edits, err := edit.Another(now, c.mine, c.typed)
		require.NoError(t, err, c.what)
		after, err := edit.Apply(now, edits...)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.other, holds(after), c.what)
		if name := c.typed["name"]; name != "" {
			_, err = edit.Another(now, c.mine, map[string]string{"name": "not a name"})
			var wrong site.FieldErrors
			assert.ErrorAs(t, err, &wrong, c.what)
		}
	}
}

func with(r site.Reservation, name string) *site.Reservation {
	r.Name = name
	return &r
}

func mustJSON(t *testing.T, v any) json.RawMessage {
	t.Helper()
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	return raw
}
