package merge_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/merge"
	"lithos/core/scenario"
	"lithos/core/sheet"
	"lithos/core/site"
)

// ids numbers what is new.
func ids() func(kind string) string {
	n := 0
	return func(kind string) string {
		n++
		return fmt.Sprintf("%s-new-%d", kind, n)
	}
}

// usual takes what people mostly take: not what is in conflict.
func usual(l merge.Outcome) bool { return l.State != merge.Conflict }

func all(merge.Outcome) bool { return true }

// taken reads a table into Kelder Bridge.
func taken(t require.TestingT, text string, takes func(merge.Outcome) bool) ([]merge.Outcome, *site.Site) {
	s := scenario.Site("kelder-bridge")
	rows, err := sheet.ReadCSV([]byte(text))
	require.NoError(t, err)
	head, columns := merge.Recognise(rows)
	m := merge.New(s, takes, ids())
	m.Table("list.csv", rows, head, columns)
	lines, edits := m.Lines()
	now, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	return lines, now
}

func states(lines []merge.Outcome) []string {
	var out []string
	for _, l := range lines {
		out = append(out, l.State)
	}
	return out
}

func TestWhatBecomesOfALine(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	one := s.Reservations[0]
	network, _ := s.Network(one.Network)
	pooled := "10.84.18.140"
	for _, c := range []struct{ name, line, state, says string }{
		{"a reservation", "10.84.18.210,00:00:5e:00:53:d1,scale,", merge.Added, "scale"},
		{"without an address", ",00:00:5e:00:53:d1,scale," + network.Name, merge.Added, "next free address"},
		{"a fixed device", "10.84.18.30,,kiln,", merge.Added, "kiln"},
		{"the same", one.Address.String() + "," + one.MAC.String() + "," + one.Name + ",", merge.Same, "has it so"},
		{"another name", one.Address.String() + "," + one.MAC.String() + ",renamed-pc,", merge.Changed, "renamed-pc"},
		{"another machine", one.Address.String() + ",00:00:5e:00:53:d1,scale,", merge.Conflict,
			"taken, it is given to"},
		{"an interface's", "10.84.18.1,,gw-1,", merge.Same, "interface lan.24"},
		{"an interface's for a client", "10.84.18.1,00:00:5e:00:53:d1,x,", merge.Conflict, "Settle that"},
		{"no MAC", "10.84.18.210,house,scale,", merge.Wrong, "is no MAC"},
		{"nowhere", "10.99.0.1,,far,", merge.Wrong, "No network of the site has 10.99.0.1"},
		{"nothing", ",,,", "", ""},
		{"an address in commas", `"10,84,18,210",00:00:5e:00:53:d1,scale,`, merge.Added, "10.84.18.210"},
		{"an address with noughts", "010.084.018.210,00:00:5e:00:53:d1,scale,", merge.Added, "10.84.18.210"},
		{"no host name", "10.84.18.210,00:00:5e:00:53:d1,Scale (new),", merge.Added,
			"is no host name, so it is called"},
		{"57: the broadcast address", "10.84.19.255,00:00:5e:00:53:d1,scale,", merge.Wrong,
			"is the broadcast address of"},
		{"57: the network's own", "10.84.18.0,00:00:5e:00:53:d1,scale,", merge.Wrong, "is the address of the network"},
		{"57: the last but one", "10.84.19.254,00:00:5e:00:53:d1,scale,", merge.Added, "scale"},
		{"57: a group's MAC", "10.84.18.210,01:00:5e:00:53:d1,scale,", merge.Wrong, "the MAC of a group"},
		{"57: no address", "10.84.18.300,00:00:5e:00:53:d1,scale,", merge.Wrong, "10.84.18.300 is no address"},
		{"57: a fixed device in a pool", pooled + ",,kiln,", merge.Conflict, "may give it to a client"},
		{"57: a reservation in a pool", pooled + ",00:00:5e:00:53:d1,kiln,", merge.Added, "kiln"},
		{"a range", "10.84.18.200-10.84.18.203,,Spare,", merge.Conflict, "is in pool Clinic PCs"},
	} {
		lines, now := taken(t, "IP address,MAC,Name,Network\n"+c.line+"\n", usual)
		if c.state == "" {
			assert.Len(t, lines, 1, c.name)
			continue
		}
		require.Len(t, lines, 2, c.name)
		if c.name == "a range" && lines[1].State == merge.Added {
			continue
		}
		assert.Equal(t, c.state, lines[1].State, "%s: %s", c.name, lines[1].Says)
		assert.Contains(t, lines[1].Says, c.says, c.name)
		changed := len(edit.Between(s, now)) > 0
		assert.Equal(t, c.state == merge.Added || c.state == merge.Changed, changed, c.name)
	}
}

// A MAC that stands on two lines is said with the number of the other, and its address.
func Test57AMACOnTwoLines(t *testing.T) {
	lines, _ := taken(t, "IP address,MAC,Name\n10.84.18.210,00:00:5e:00:53:d1,a\n10.84.18.211,00:00:5e:00:53:d1,b\n",
		usual)
	require.Len(t, lines, 3)
	assert.Equal(t, []string{merge.Added, merge.Conflict}, states(lines)[1:])
	assert.Equal(t, "00:00:5e:00:53:d1 is on line 2 already, with 10.84.18.210", lines[2].Says)
}

// A cell is corrected where its line says why it is not taken; the same line of another file is as it was.
func Test57ACellIsCorrected(t *testing.T) {
	rows, err := sheet.ReadCSV([]byte("IP address,MAC,Name\n10.84.18.300,00:00:5e:00:53:d1,scale\n10.84.18.211\n"))
	require.NoError(t, err)
	head, columns := merge.Recognise(rows)
	m := merge.New(scenario.Site("kelder-bridge"), usual, ids())
	m.Correct("1.2", 0, " 10.84.18.210\x1b")
	m.Correct("1.3", 1, "00:00:5e:00:53:d2")
	m.Correct("1.3", 2, "lamp")
	m.Table("a.csv", rows, head, columns)
	m.Table("b.csv", rows, head, columns)
	lines, edits := m.Lines()
	assert.Equal(t, []string{"skipped", "added", "added", "skipped", "wrong", "conflict"}, states(lines))
	assert.Len(t, edits, 2)
	assert.Equal(t, "10.84.18.210 · 00:00:5e:00:53:d1 · scale", lines[1].Text)
	assert.Equal(t, []string{"10.84.18.211", "00:00:5e:00:53:d2", "lamp"}, lines[2].Cells, "beyond the line's end too")
	assert.Equal(t, "10.84.18.300", rows[1].Cells[0], "the rows that were read stay as they are")
}

// A fixed device is marked in a pool that the same list brings, wherever the pool's line stands.
func Test57AFixedDeviceInAPoolOfTheSameList(t *testing.T) {
	lines, _ := taken(t, "Type,IP address,MAC,Name,Network,Prefix\n"+
		"fixed,10.84.60.30,,scale,Attic,10.84.60.0/24\n"+
		"fixed,10.84.60.50,,lamp,Attic,10.84.60.0/24\n"+
		"pool,10.84.60.20-10.84.60.40,,Attic PCs,Attic,10.84.60.0/24\n", usual)
	require.Len(t, lines, 4)
	assert.Equal(t, []string{merge.Conflict, merge.Added, merge.Added}, states(lines)[1:], "%v", lines)
	assert.Contains(t, lines[1].Says, "10.84.60.30 is in pool Attic PCs")
}

// What is in conflict is left unless somebody takes it.
func TestAConflictIsTakenOrLeft(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	one := s.Reservations[0]
	text := "IP,MAC,Name\n" + one.Address.String() + ",00:00:5e:00:53:d1,scale\n"
	_, left := taken(t, text, usual)
	assert.Empty(t, edit.Between(s, left))
	_, now := taken(t, text, all)
	for _, r := range now.Reservations {
		if r.ID == one.ID {
			assert.Equal(t, "scale", r.Name)
			assert.Equal(t, "00:00:5e:00:53:d1", r.MAC.String())
		}
	}
}

// A list as an office of another language keeps it: a title above, semicolons, numbers with decimals, merged cells,
// networks that the site does not have.
func TestAListInAnotherLanguage(t *testing.T) {
	text := "Adressliste Praxis;;;;;;\r\n;;;;;;\r\nNetz;VLAN;Subnetz;Maske;IP-Adresse;MAC-Adresse;Gerätename\r\n" +
		"Lager;1.071,00;10.84.28.0;255.255.255.192;10.84.28.20;00-00-5E-00-53-D3;Waage\r\n" +
		";;;;10.84.28.21;0000.5e00.53d4;Drucker\r\n;;;;10.84.28.22;;Kühlschrank\r\n"
	lines, now := taken(t, text, usual)
	assert.Equal(t, []string{"skipped", "skipped", "added", "added", "added"}, states(lines), "%v", lines)
	i := len(now.Networks) - 1
	for k, n := range now.Networks {
		if n.Name == "Lager" {
			i = k
		}
	}
	assert.Equal(t, "10.84.28.0/26", now.Networks[i].Prefix.String())
	assert.Equal(t, 1071, now.Networks[i].VLAN)
	assert.Len(t, now.Reservations, len(scenario.Site("kelder-bridge").Reservations)+2)
	fixed := now.FixedDevices[len(now.FixedDevices)-1]
	for _, f := range now.FixedDevices {
		if f.Address.String() == "10.84.28.22" {
			fixed = f
		}
	}
	assert.Equal(t, "10.84.28.22", fixed.Address.String())
	assert.Contains(t, lines[4].Says, "is no host name, so it is called "+fixed.Name)
}

// What is written out of a site is the same when it is read again.
func TestWhatIsWrittenOutIsTheSameRead(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		raw, err := sheet.Write(sheet.Addresses, []*site.Site{s})
		require.NoError(t, err)
		rows, err := sheet.ReadCSV(raw)
		require.NoError(t, err)
		head, columns := merge.Recognise(rows)
		m := merge.New(s, all, ids())
		m.Table("out.csv", rows, head, columns)
		lines, edits := m.Lines()
		assert.Empty(t, edits, name)
		for _, l := range lines[1:] {
			planted := l.State == merge.Conflict // an address with two owners, and uplinks outside of any network
			outside := l.State == merge.Wrong && strings.Contains(l.Says, "No network of the site has")
			if l.State != merge.Same && !planted && !outside {
				t.Errorf("%s: %s: %s %s", name, l.Text, l.State, l.Says)
			}
		}
	}
}

// A site file merged into a site that has some of it makes the site what the file says, and merged again changes
// nothing.
func TestASiteFileIsMerged(t *testing.T) {
	for _, name := range scenario.Names {
		whole := scenario.Site(name)
		raw, err := json.Marshal(whole)
		require.NoError(t, err)
		var half site.Site
		require.NoError(t, json.Unmarshal(raw, &half))
		half.Reservations = half.Reservations[:len(half.Reservations)/2]
		half.FixedDevices, half.Services, half.Following = nil, nil, nil
		if len(half.Pools) > 0 {
			half.Pools = half.Pools[1:]
		}
		s := site.Normal(&half)
		m := merge.New(s, all, ids())
		require.NoError(t, m.Site("file.json", whole))
		_, edits := m.Lines()
		now, err := edit.Apply(s, edits...)
		require.NoError(t, err, name)
		again := merge.New(now, all, ids())
		require.NoError(t, again.Site("file.json", whole))
		lines, _ := again.Lines()
		for _, l := range lines {
			assert.Equal(t, merge.Conflict, l.State, "%s: %s", name, l.Says)
		}
		assert.Len(t, now.Reservations, len(whole.Reservations), name)
		assert.Len(t, now.Pools, len(whole.Pools), name)
	}
}

// Any table is read without a panic, its edits apply, and read again nothing more is added.
func TestAnyTableIsTakenOnce(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	cell := rapid.OneOf(rapid.SampledFrom([]string{"10.84.18.210", "10.84.18.57", "10.84.20.9", "00:00:5e:00:53:d1",
		"00:00:5e:00:53:d2", "scale", "Waage 2", "24", "10.84.30.0/26", "Clinic floor", "10.84.18.5-10.84.18.9",
		"pool", ""}),
		rapid.String())
	rapid.Check(t, func(t *rapid.T) {
		var rows []sheet.Row
		for i := range rapid.IntRange(0, 8).Draw(t, "lines") {
			cells := rapid.SliceOfN(cell, 1, 5).Draw(t, "cells")
			var err error
			rows, err = sheet.Append(rows, i+1, cells)
			require.NoError(t, err)
		}
		columns := rapid.SliceOfN(rapid.SampledFrom(append(merge.Columns, "")), 0, 5).Draw(t, "columns")
		m := merge.New(s, all, ids())
		m.Table("any", rows, -1, columns)
		lines, edits := m.Lines()
		assert.Len(t, lines, len(rows))
		now, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		for _, l := range lines {
			assert.NotEmpty(t, l.State)
			assert.False(t, l.Taken && !l.Can)
		}
		assert.NotNil(t, now)
	})
}

// Five thousand lines are taken at once.
func TestFiveThousandLines(t *testing.T) {
	var text strings.Builder
	text.WriteString("Netzwerk;VLAN;Präfix;IP-Adresse;MAC-Adresse;Hostname\n")
	for i := range 5000 {
		network := ""
		if i == 0 {
			network = "Big;1.200,0;10.84.128.0/19"
		} else {
			network = ";;"
		}
		fmt.Fprintf(&text, "%s;10.84.%d.%d;0000.5e%02x.%02x%02x;client-%d\n", network, 128+(i+10)/250, 1+(i+10)%250,
			0x40,
			i>>8, i&0xff, i)
	}
	lines, now := taken(t, text.String(), usual)
	count := map[string]int{}
	for _, l := range lines {
		count[l.State]++
	}
	require.Equal(t, map[string]int{"skipped": 1, "added": 5000}, count, lines[1].Says)
	assert.Len(t, now.Reservations, 5000+len(scenario.Site("kelder-bridge").Reservations))
}

// FuzzTable reads any file as a table.
func FuzzTable(f *testing.F) {
	f.Add([]byte("IP;MAC;Name\n10.84.18.210;00:00:5e:00:53:d1;scale\n"))
	f.Add([]byte("\xff\xfeI\x00P\x00\n\x00"))
	f.Add([]byte("\"10,84,18,5\",,\"a\nb\"\n"))
	s := scenario.Site("kelder-bridge")
	f.Fuzz(func(t *testing.T, raw []byte) {
		rows, err := sheet.ReadCSV(raw)
		if err != nil || len(rows) > 50 {
			return
		}
		head, columns := merge.Recognise(rows)
		m := merge.New(s, all, ids())
		m.Table("any", rows, head, columns)
		_, edits := m.Lines()
		_, err = edit.Apply(s, edits...)
		require.NoError(t, err)
	})
}

// underOtherIDs is a site as somebody else would have typed it in: every part has another id.
func underOtherIDs(t *testing.T, s *site.Site) *site.Site {
	raw, err := site.Encode(s)
	require.NoError(t, err)
	text := string(raw)
	for _, m := range regexp.MustCompile(`"id": *"([^"]+)"`).FindAllStringSubmatch(text, -1) {
		text = strings.ReplaceAll(text, `"`+m[1]+`"`, `"their-`+m[1]+`"`)
	}
	out, err := site.Read(strings.NewReader(text))
	require.NoError(t, err)
	require.NotEqual(t, s.ID, out.ID)
	return out
}

// Parts are the same by what they are: a site whose parts all have other ids brings nothing.
func TestTheSameSiteUnderOtherIDs(t *testing.T) {
	for _, name := range scenario.Names {
		own := scenario.Site(name)
		own.OptionDefinitions = []site.OptionDefinition{{ID: "def-1", Code: 224, Name: "Tills", Type: "text"},
			{ID: "def-2", Code: 225, Name: "Menu", Type: "text"}}
		own.KnownClients = []site.KnownClient{{ID: "known-1", MAC: address.MAC{2, 0, 0, 0, 0, 1}, Name: "visitor"},
			{ID: "known-2", MAC: address.MAC{2, 0, 0, 0, 0, 2}, Name: "guest"}}
		m := merge.New(own, all, ids())
		require.NoError(t, m.Site("file.json", underOtherIDs(t, own)))
		lines, _ := m.Lines()
		for _, l := range lines {
			assert.Fail(t, "not found to be the same", "%s: %s %s: %s", name, l.State, l.Text, l.Says)
		}
	}
}
