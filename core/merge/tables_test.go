package merge_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/merge"
	"lithos/core/scenario"
	"lithos/core/sheet"
)

// tables are lists as people keep them, each for one thing.
var tables = []struct{ what, text string }{
	{"a title above the heading", "Kelder Bridge surgery\nAddress,Name,MAC\n10.84.18.210,scale,00:00:5e:00:53:d1\n"},
	{"no heading, told by content", "00:00:5e:00:53:d1,10.84.18.210,scale\n00:00:5e:00:53:d2,10.84.18.211,lamp\n"},
	{"no heading, half of a column empty", "scale,,10.84.18.210\n,00:00:5e:00:53:d2,10.84.18.211\nlamp,,10.84.18.212\n"},
	{"a heading with numbers", "IPv4 address,Name\n10.84.18.210,scale\n"},
	{"two columns of names", "Name,Host name,IP\nscale,other,10.84.18.210\n"},
	{"a machine without a name", "Note,Address\nx,10.84.18.210\n"},
	{"networks", "Network,VLAN,Subnet,Gateway\nLab,77,10.84.28.0/24,10.84.28.1\n,78,10.84.29.0/24,\nOver,79,10.84.18.0/24,\n"},
	{"a network by mask", "Network,VLAN,IP address,Subnet mask,Name\nLab,\"77,0\",10.84.28.9,255.255.255.0,scale\n,,10.84.28.10,,lamp\n"},
	{"a network that is known", "Network,VLAN,Subnet\nImaging,48,10.84.20.0/26\n"},
	{"merged cells end at another network", "Network,Subnet,Address,Name\nLab,10.84.28.0/24,10.84.28.9,scale\n,,10.84.28.10,lamp\n" +
		"Elsewhere,,10.84.29.9,door\n"},
	{"an address with its length", "Address,Name\n10.84.28.9/24,scale\n"},
	{"a range from two cells", "From,To,Name\n10.84.28.10,10.84.28.19,Guests\n10.84.18.97,10.84.18.99,Within\n10.84.19.240,10.84.19.245,More\n" +
		"10.84.19.246,10.84.19.246,one\n"},
	{"a pool as it is", "Kind,Address,Name\npool,10.84.20.24-10.84.20.55,Imaging\npool,10.84.20.24-10.84.20.57,Imaging\n"},
	{"by VLAN alone", "VLAN,MAC,Name\n48,00:00:5e:00:53:d1,scale\nVLAN 48,00:00:5e:00:53:d2,lamp\n4000,00:00:5e:00:53:d3,door\n"},
	{"by prefix and by name", "Network,Subnet,MAC,Name\n,10.84.20.0/26,00:00:5e:00:53:d1,scale\nimaging,,00:00:5e:00:53:d2,lamp\n"},
	{"nowhere", "MAC,Name,Address\n00:00:5e:00:53:d1,scale,\n00:00:5e:00:53:d2,lamp,10.84.18.300\n"},
	{"a name no host can have", "Address,Name\n10.84.18.210,Scale in the hall\n10.84.18.211,???\n10.84.18.212,UPPER\n"},
	{"an identifier", "Kind,Address,MAC,Name\nreservation,10.84.18.210,01:00:00:5e:00:53:d1,scale\nfixed,10.84.18.31,no mac at all,door\n" +
		"reservation," + "10.84.18.212," + "a-very-long-word-that-is-cut-because-it-goes-on-and-on,lamp\n"},
	{"a prefix that is none", "Network,Subnet\nLab,somewhere\nLab,\n"},
	{"nothing that tells", "Address,Name,Note\n,,only a note\n"},
	{"the same address twice", "Address,MAC,Name\n10.84.18.210,00:00:5e:00:53:d1,scale\n10.84.18.210,00:00:5e:00:53:d2,lamp\n"},
	{"a MAC that is known", "MAC,Name,Network\n00:00:5e:00:53:50,plate-reader,Imaging\n00:00:5e:00:53:50,reader-2,Imaging\n"},
	{"apostrophes of a spreadsheet", "Address,Name,MAC\n'10.84.18.210,'scale,'00:00:5e:00:53:d1\n"},
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
	const file = "testdata/tables.txt"
	if os.Getenv("LITHOS_WRITE_WORDS") != "" {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(got.String()), 0o600))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got.String())
}
