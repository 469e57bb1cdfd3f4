package sheet_test

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"pgregory.net/rapid"

	"lithos/core/sheet"
)

func cellsOf(rows []sheet.Row) (out [][]string) {
	for _, r := range rows {
		out = append(out, r.Cells)
	}
	return out
}

// inUTF16 is a text in UTF-16 with the mark of its order of octets.
func inUTF16(text string, bigEndian bool) []byte {
	var out []byte
	for _, u := range append([]uint16{0xfeff}, utf16.Encode([]rune(text))...) {
		low, high := byte(u), byte(u>>8)
		if bigEndian {
			low, high = high, low
		}
		out = append(out, low, high)
	}
	return out
}

// However a spreadsheet wrote a table, the same cells are read, at the same lines.
func TestReadCSVEveryWay(t *testing.T) {
	for _, comma := range []rune{',', ';', '\t'} {
		var out bytes.Buffer
		w := csv.NewWriter(&out)
		w.Comma = comma
		require.NoError(t, w.WriteAll([][]string{{"Name", "Straße"}, {"", ""}, {"“Büro”", "20 € – 7\u0178"},
			{"a" + string(comma) + "b", "c"}}))
		text := out.String()
		western, err := charmap.Windows1252.NewEncoder().String(text)
		require.NoError(t, err)
		within := strings.ReplaceAll("a"+string(comma)+"b", "\t", " ")
		for way, raw := range map[string][]byte{"UTF-8": []byte(text), "UTF-8 with a mark": []byte("\ufeff" + text),
			"UTF-16 LE": inUTF16(text, false), "UTF-16 BE": inUTF16(text, true), "1252": []byte(western)} {
			rows, err := sheet.ReadCSV(raw)
			require.NoError(t, err, way)
			assert.Equal(t, [][]string{{"Name", "Straße"}, {"“Büro”", "20 € – 7\u0178"},
				{within, "c"}}, cellsOf(rows), "%s %q", way, comma)
			assert.Equal(t, []int{1, 3, 4}, []int{rows[0].Number, rows[1].Number, rows[2].Number}, way)
		}
	}
}

// Each octet of the code page 1252 is read as the table of Unicode says; five of them stand for nothing.
func TestEveryOctetOf1252(t *testing.T) {
	for b := 0x80; b <= 0xff; b++ {
		rows, err := sheet.ReadCSV([]byte{'x', byte(b), 'x'})
		require.NoError(t, err)
		assert.Equal(t, "x"+string(charmap.Windows1252.DecodeByte(byte(b)))+"x", rows[0].Cells[0], "%x", b)
	}
}

// What stands between cells is what most lines have, not what a note has once.
func TestSeparatorOfMostLines(t *testing.T) {
	rows, err := sheet.ReadCSV([]byte("a,b\nc,d;e\nf,g;h\n"))
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"a", "b"}, {"c", "d;e"}, {"f", "g;h"}}, cellsOf(rows))
	rows, err = sheet.ReadCSV([]byte("desk\t10.84.18.4\tmoved; see plan\n"))
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"desk", "10.84.18.4", "moved; see plan"}}, cellsOf(rows), "one pasted line")
	rows, err = sheet.ReadCSV([]byte("alone\n"))
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"alone"}}, cellsOf(rows))
}

// A table of the largest size is read, and one of a column, line or octet more is refused.
func TestReadCSVLimits(t *testing.T) {
	widest := strings.Repeat("a,", sheet.MaxColumns-1) + "a\n"
	rows, err := sheet.ReadCSV([]byte(widest))
	require.NoError(t, err)
	assert.Len(t, rows[0].Cells, sheet.MaxColumns)
	_, err = sheet.ReadCSV([]byte("b\na," + widest))
	assert.ErrorContains(t, err, "line 2 has 61 columns; leave at most 60")

	rows, err = sheet.ReadCSV([]byte(strings.Repeat("a\n", sheet.MaxRows) + " , \n"))
	require.NoError(t, err, "a line without text does not count")
	assert.Len(t, rows, sheet.MaxRows)
	_, err = sheet.ReadCSV([]byte(strings.Repeat("a\n", sheet.MaxRows+1)))
	assert.ErrorContains(t, err, "more than 20000 lines")

	blank := bytes.Repeat([]byte(" "), sheet.MaxOctets)
	rows, err = sheet.ReadCSV(blank)
	require.NoError(t, err)
	assert.Empty(t, rows)
	_, err = sheet.ReadCSV(append(blank, ' '))
	assert.ErrorContains(t, err, "read it in parts of at most 8388608")
}

// What is written as a table is read back as it was, but for control characters and blanks at the ends.
func TestWrittenIsRead(t *testing.T) {
	cell := rapid.StringMatching(`[a-zäß€;,"0-9 ]{0,12}[a-z]`)
	rapid.Check(t, func(t *rapid.T) {
		row := rapid.SliceOfN(cell, 3, 3)
		rows := rapid.SliceOfN(row, 1, 8).Draw(t, "rows")
		var out bytes.Buffer
		w := csv.NewWriter(&out)
		w.Comma = '\t' // a text has none
		if err := w.WriteAll(rows); err != nil {
			t.Fatal(err)
		}
		read, err := sheet.ReadCSV(out.Bytes())
		if err != nil {
			t.Fatal(err)
		}
		for i := range rows {
			for k := range rows[i] {
				if want := strings.TrimSpace(rows[i][k]); read[i].Cells[k] != want {
					t.Fatalf("%q was read as %q", want, read[i].Cells[k])
				}
			}
		}
	})
	assert.Equal(t, "ab", sheet.Cell(" a\x00\x07b\n"))
	assert.Equal(t, "Mon to Fri", sheet.Cell("Mon\r\nto\nFri"), "a cell of several lines")
	assert.Equal(t, strings.Repeat("ü", 500), sheet.Cell(strings.Repeat("ü", 1200)), "cut between two")
}

// FuzzReadCSV checks that no file brings the reader down, and that no cell of it has a control character.
func FuzzReadCSV(f *testing.F) {
	f.Add([]byte("a;b\n\"c"))
	f.Add([]byte{0xff, 0xfe, 'a', 0, 'b'})
	f.Fuzz(func(t *testing.T, raw []byte) {
		rows, err := sheet.ReadCSV(raw)
		if err != nil {
			return
		}
		for _, r := range rows {
			for _, c := range r.Cells {
				if strings.ContainsFunc(c, func(r rune) bool { return r < ' ' || r == 0x7f }) {
					t.Fatalf("%q", c)
				}
			}
		}
	})
}
