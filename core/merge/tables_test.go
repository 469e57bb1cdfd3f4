package merge_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/merge"
	"lithos/core/scenario"
	"lithos/core/sheet"
	"lithos/core/wordstest"
)

// tables are lists as people keep them, each for one thing.
var tables = []struct{ what, text string }{
	{"a title above the heading", `Kelder Bridge surgery
Address,Name,MAC
10.84.18.210,scale,00:00:5e:00:53:d1
`},
	{"no heading, told by content", `00:00:5e:00:53:d1,10.84.18.210,scale
00:00:5e:00:53:d2,10.84.18.211,lamp
`},
	{"no heading, half of a column empty", `scale,,10.84.18.210
,00:00:5e:00:53:d2,10.84.18.211
lamp,,10.84.18.212
`},
	{"a heading with numbers", `IPv4 address,Name
10.84.18.210,scale
`},
	{"two columns of names", `Name,Host name,IP
scale,other,10.84.18.210
`},
	{"a machine without a name", `Note,Address
x,10.84.18.210
`},
	{"networks", `Network,VLAN,Subnet,Gateway
Lab,77,10.84.28.0/24,10.84.28.1
,78,10.84.29.0/24,
Over,79,10.84.18.0/24,
`},
	{"a network by mask", `Network,VLAN,IP address,Subnet mask,Name
Lab,"77,0",10.84.28.9,255.255.255.0,scale
,,10.84.28.10,,lamp
`},
	{"a network that is known", `Network,VLAN,Subnet
Imaging,48,10.84.20.0/26
`},
	{"merged cells end at another network", `Network,Subnet,Address,Name
Lab,10.84.28.0/24,10.84.28.9,scale
,,10.84.28.10,lamp
Elsewhere,,10.84.29.9,door
`},
	{"an address with its length", `Address,Name
10.84.28.9/24,scale
`},
	{"a range from two cells", `From,To,Name
10.84.28.10,10.84.28.19,Guests
10.84.18.97,10.84.18.99,Within
10.84.19.240,10.84.19.245,More
10.84.19.246,10.84.19.246,one
`},
	{"a pool as it is", `Kind,Address,Name
pool,10.84.20.24-10.84.20.55,Imaging
pool,10.84.20.24-10.84.20.57,Imaging
`},
	{"by VLAN alone", `VLAN,MAC,Name
48,00:00:5e:00:53:d1,scale
VLAN 48,00:00:5e:00:53:d2,lamp
4000,00:00:5e:00:53:d3,door
`},
	{"by prefix and by name", `Network,Subnet,MAC,Name
,10.84.20.0/26,00:00:5e:00:53:d1,scale
imaging,,00:00:5e:00:53:d2,lamp
`},
	{"nowhere", `MAC,Name,Address
00:00:5e:00:53:d1,scale,
00:00:5e:00:53:d2,lamp,10.84.18.300
`},
	{"a name no host can have", `Address,Name
10.84.18.210,Scale in the hall
10.84.18.211,???
10.84.18.212,UPPER
`},
	{"an identifier", `Kind,Address,MAC,Name
reservation,10.84.18.210,01:00:00:5e:00:53:d1,scale
fixed,10.84.18.31,no mac at all,door
reservation,10.84.18.212,a-very-long-word-that-is-cut-because-it-goes-on-and-on,lamp
`},
	{"a prefix that is none", `Network,Subnet
Lab,somewhere
Lab,
`},
	{"nothing that tells", `Address,Name,Note
,,only a note
`},
	{"the same address twice", `Address,MAC,Name
10.84.18.210,00:00:5e:00:53:d1,scale
10.84.18.210,00:00:5e:00:53:d2,lamp
`},
	{"a MAC that is known", `MAC,Name,Network
00:00:5e:00:53:50,plate-reader,Imaging
00:00:5e:00:53:50,reader-2,Imaging
`},
	{"apostrophes of a spreadsheet", `Address,Name,MAC
'10.84.18.210,'scale,'00:00:5e:00:53:d1
`},
}

// What becomes of each line is in a file, for somebody to read.
func TestTablesInWords(t *testing.T) {
	var got strings.Builder
	for _, c := range tables {
		s := scenario.Site("kelder-bridge")
		rows, err := sheet.ReadCSV([]byte(c.text))
		require.NoError(t, err)
		head, columns := merge.Recognise(rows)
		m := merge.New(s, usual, ids())
		m.Table("list.csv", rows, head, columns)
		lines, edits := m.Lines()
		fmt.Fprintf(&got, "# %s\nheading %d, columns %q\n", c.what, head, columns)
		for _, l := range lines {
			fmt.Fprintf(&got, "%d %s: %s\n", l.Number, l.State, l.Says)
		}
		for _, e := range edits {
			fmt.Fprintf(&got, "  %s\n", edit.Describe(s, e))
		}
		got.WriteString("\n")
	}
	wordstest.Same(t, "tables.txt", got.String())
}
