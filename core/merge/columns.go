package merge

import (
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/sheet"
)

// What a column may hold.
const (
	ColumnKind    = "kind"    // reservation, fixed device, pool, network
	ColumnNetwork = "network" // its name
	ColumnVLAN    = "vlan"
	ColumnPrefix  = "prefix"
	ColumnMask    = "mask"
	ColumnGateway = "gateway"
	ColumnAddress = "address" // one, or a range
	ColumnLast    = "last"    // the end of a range that begins in the column of addresses
	ColumnMAC     = "mac"
	ColumnName    = "name"
	ColumnNote    = "note"
	ColumnNothing = "" // is not read
)

// Columns are those that a column may be.
var Columns = []string{ColumnKind, ColumnNetwork, ColumnVLAN, ColumnPrefix, ColumnMask, ColumnGateway, ColumnAddress,
	ColumnLast, ColumnMAC, ColumnName, ColumnNote}

// headings are the words that say what a column holds, in a few languages. What says more comes first: "MAC address" is
// of MACs, "network mask" of masks.
var headings = []struct {
	column string
	words  []string
}{
	{ColumnMAC, []string{"mac", "hardware", "ethernet", "physical", "physique", "matériel"}},
	{ColumnMask, []string{"mask", "netmask", "maske", "netzmaske", "subnetzmaske", "subnetmask", "masque", "máscara",
		"masker"}},
	{ColumnGateway, []string{"gateway", "router", "passerelle", "routeur", "puerta", "standardgateway"}},
	{ColumnVLAN, []string{"vlan"}},
	{ColumnLast, []string{"last", "end", "to", "bis", "ende", "fin", "tot", "hasta"}},
	{ColumnPrefix, []string{"prefix", "subnet", "cidr", "subnetz", "präfix", "préfixe", "subred"}},
	{ColumnName, []string{"hostname", "host", "name", "device", "client", "gerät", "gerätename", "rechner", "nom",
		"hôte",
		"appareil", "nombre", "dispositivo", "naam", "apparaat"}},
	{ColumnAddress, []string{"address", "ip", "ipv4", "adresse", "ip-adresse", "first", "start", "from", "von",
		"début",
		"dirección", "adres", "desde"}},
	{ColumnNetwork, []string{"network", "netz", "netzwerk", "réseau", "red", "netwerk", "lan"}},
	{ColumnKind, []string{"kind", "type", "typ", "art", "held", "tipo", "soort"}},
	{ColumnNote, []string{"note", "notes", "comment", "comments", "description", "bemerkung", "kommentar", "remarque",
		"beschreibung", "opmerking", "nota", "location", "standort"}},
}

// Recognise says which line of a table is its heading, -1 for none, and what each column holds: by the heading, or by
// what stands in it.
func Recognise(rows []sheet.Row) (head int, columns []string) {
	for i, row := range rows[:min(len(rows), headWithin)] {
		if found, ok := byHeading(row.Cells); ok {
			return i, found
		}
	}
	return -1, byContent(rows)
}

// headWithin is within how many lines of a table its heading is looked for: titles may stand above it.
const headWithin = 12

func byHeading(cells []string) (columns []string, ok bool) {
	taken := map[string]bool{}
	telling := 0
	for _, cell := range cells {
		column := columnOf(cell)
		if column != ColumnNothing && taken[column] {
			column = ColumnNothing
		}
		taken[column] = true
		columns = append(columns, column)
		if column != ColumnNothing {
			telling++
		}
	}
	return columns, telling >= 2 && (taken[ColumnAddress] || taken[ColumnMAC] || taken[ColumnPrefix])
}

// columnOf is what a heading says that its column holds.
func columnOf(cell string) string {
	if strings.ContainsAny(cell, "0123456789") && len(strings.Fields(cell)) == 1 {
		if _, err := address.ParseAddr(cell, netip.Prefix{}); err == nil {
			return ColumnNothing
		}
	}
	words := strings.FieldsFunc(strings.ToLower(cell), func(c rune) bool {
		return strings.ContainsRune(" -/_.:()[]#", c)
	})
	for _, h := range headings {
		for _, w := range words {
			if slices.Contains(h.words, w) || h.column == ColumnVLAN && strings.HasPrefix(w, "vlan") {
				return h.column
			}
		}
	}
	return ColumnNothing
}

// byContent tells columns apart by what most of their cells are.
func byContent(rows []sheet.Row) []string {
	width := 0
	for _, row := range rows {
		width = max(width, len(row.Cells))
	}
	out := make([]string, width)
	for i := range out {
		count, filled := map[string]int{}, 0
		for _, row := range rows[:min(len(rows), 200)] {
			if i < len(row.Cells) && row.Cells[i] != "" {
				filled++
				count[contentOf(row.Cells[i])]++
			}
		}
		for _, c := range []string{ColumnMAC, ColumnPrefix, ColumnAddress, ColumnName} {
			if count[c]*2 > filled && !slices.Contains(out, c) {
				out[i] = c
				break
			}
		}
	}
	return out
}

func contentOf(cell string) string {
	if _, err := address.ParseMAC(cell); err == nil {
		return ColumnMAC
	}
	if strings.Contains(cell, "/") {
		if _, err := address.ParsePrefix(tidyAddress(cell)); err == nil {
			return ColumnPrefix
		}
	}
	if _, err := address.ParseRange(tidyAddress(cell), netip.Prefix{}); err == nil {
		return ColumnAddress
	}
	return ColumnName
}
