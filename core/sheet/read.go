package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"lithos/core/site"
)

// What is read of a table at most.
const (
	MaxOctets  = 8 << 20
	MaxRows    = 20_000
	MaxColumns = 60
	maxCell    = 1000 // octets
)

// Row is a line of a table, at its number in the file.
type Row struct {
	Number int
	Cells  []string
}

// ReadCSV reads a table in CSV (RFC 4180): with commas, semicolons or tabs, in UTF-8, UTF-16 or the Windows code page
// 1252. Lines without any text are left out. Control characters are left out of cells.
func ReadCSV(raw []byte) ([]Row, error) {
	if len(raw) > MaxOctets {
		return nil, fmt.Errorf("the table has %d octets; read it in parts of at most %d", len(raw), MaxOctets)
	}
	text := decoded(raw)
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.LazyQuotes, r.FieldsPerRecord, r.ReuseRecord = separator(text), true, -1, true
	var out []Row
	for {
		cells, err := r.Read()
		switch {
		case errors.Is(err, io.EOF):
			return out, nil
		case err != nil:
			return nil, fmt.Errorf("the table cannot be read: %w", err)
		}
		line, _ := r.FieldPos(0)
		if out, err = Append(out, line, cells); err != nil {
			return nil, err
		}
	}
}

// lines are what a text of several lines or columns has between its words.
var lines = strings.NewReplacer("\r\n", " ", "\n", " ", "\r", " ", "\t", " ")

// Cell is the text of a cell as it is read: on one line, without control characters, of at most 1000 octets.
func Cell(text string) string {
	return strings.TrimSpace(site.Printable(lines.Replace(strings.ToValidUTF8(text, "�")), maxCell))
}

// Append adds a line to a table, unless it has no text.
func Append(rows []Row, number int, cells []string) ([]Row, error) {
	if len(cells) > MaxColumns {
		return nil, fmt.Errorf("line %d has %d columns; leave at most %d", number, len(cells), MaxColumns)
	}
	row := Row{Number: number}
	for _, cell := range cells {
		row.Cells = append(row.Cells, Cell(cell))
	}
	if strings.Join(row.Cells, "") == "" {
		return rows, nil
	}
	if len(rows) == MaxRows {
		return nil, fmt.Errorf("the table has more than %d lines; read it in parts", MaxRows)
	}
	return append(rows, row), nil
}

// decoded is a file's text, whichever way it was written.
func decoded(raw []byte) string {
	switch {
	case bytes.HasPrefix(raw, []byte{0xef, 0xbb, 0xbf}):
		return string(raw[3:])
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}):
		return wide(raw[2:], 0)
	case bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		return wide(raw[2:], 1)
	case utf8.Valid(raw):
		return string(raw)
	}
	var out strings.Builder
	for _, b := range raw {
		if b >= 0x80 && b < 0xa0 {
			out.WriteRune(windows1252[b-0x80])
		} else {
			out.WriteRune(rune(b))
		}
	}
	return out.String()
}

// wide decodes UTF-16; low is which octet of two is the lower one's place.
func wide(raw []byte, high int) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		a, b := raw[2*i], raw[2*i+1]
		if high == 1 {
			a, b = b, a
		}
		units[i] = uint16(a) | uint16(b)<<8
	}
	return string(utf16.Decode(units))
}

// windows1252 is what the octets 0x80 to 0x9f stand for in that code page.
var windows1252 = [32]rune{'€', '�', '‚', 'ƒ', '„', '…', '†', '‡', 'ˆ', '‰', 'Š', '‹', 'Œ', '�',
	'Ž',
	'�',
	'�',
	'‘',
	'’',
	'“', '”', '•', '–', '—', '˜', '™', 'š', '›', 'œ', '�', 'ž', 'Ÿ'}

// separator is what stands between the cells: the one that most of the first lines have. Of as many, it is the one that
// a text within a cell has least often.
func separator(text string) rune {
	head := text[:min(len(text), 4000)]
	best, most := ',', 0
	for _, c := range []rune{'\t', ';', ','} {
		n := 0
		for line := range strings.SplitSeq(head, "\n") {
			if strings.ContainsRune(line, c) {
				n++
			}
		}
		if n > most {
			best, most = c, n
		}
	}
	return best
}
