package sheet_test

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/core/sheet"
	"lithos/core/site"
)

func rowsOf(t *testing.T, of string, sites ...*site.Site) [][]string {
	t.Helper()
	raw, err := sheet.Write(of, sites)
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(raw)).ReadAll()
	require.NoError(t, err)
	return rows
}

// Every address, name and option of a site stands in its table, addresses in their order.
func TestTables(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	rows := rowsOf(t, sheet.Addresses, s)
	ranges := 0
	for _, p := range s.Pools {
		ranges += len(p.Ranges) + len(p.Exclusions)
	}
	interfaces := 0
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			interfaces += len(i.Addresses)
		}
	}
	assert.Len(t, rows, 1+len(s.Reservations)+len(s.FixedDevices)+ranges+interfaces)
	assert.Contains(t, rows, []string{"Kelder Bridge surgery", "Imaging", "48", "10.84.20.14", "00:00:5e:00:53:50",
		"plate-reader", "reservation", ""})
	all := func(rows [][]string) string {
		var out []string
		for _, r := range rows {
			out = append(out, strings.Join(r, "|"))
		}
		return strings.Join(out, "\n")
	}
	assert.Contains(t, all(rowsOf(t, sheet.Names, s)), "|outside|larkrise.example|www.larkrise.example|A|203.0.113.80|")
	assert.Contains(t, all(rowsOf(t, sheet.Options, s)), "the standard Clinic standard|51|Lease time|1 day|")
	two := rowsOf(t, sheet.Addresses, s, scenario.Site("hallin-road"))
	assert.Greater(t, len(two), len(rows))
	_, err := sheet.Write("anything", nil)
	assert.ErrorContains(t, err, "choose addresses, names, options")
}

// What begins as a formula does is shown and not run.
func TestNoCellIsRun(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for _, evil := range []string{"=1+2", "+cmd", "-2", "@SUM(A1)", "\tx"} {
		s.FixedDevices[0].Note, s.Name = evil, evil
		for _, of := range sheet.Tables {
			for _, row := range rowsOf(t, of, s)[1:] {
				for _, cell := range row {
					if cell != "" {
						assert.NotContains(t, "=+-@\t\r", cell[:1], "%s: %q", of, cell)
					}
				}
			}
		}
	}
}
