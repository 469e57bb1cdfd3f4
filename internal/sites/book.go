package sites

import (
	"bytes"
	"context"
	"fmt"

	"github.com/xuri/excelize/v2"

	"lithos/core/sheet"
)

// What is read of a workbook at most: octets once it is unpacked, of which a file that is packed very small has fewer,
// and lines, empty ones included.
const (
	mostUnpacked = 64 << 20
	packedAtMost = 12 // octets unpacked for one that is packed, beside the first ones
	firstOctets  = 4 << 20
	maxLines     = 4 * sheet.MaxRows
)

// Table is a table of a file.
type Table struct {
	Name string // of the file, with that of the sheet where there are several
	Rows []sheet.Row
}

// Tables reads the sheets of a workbook (XLSX), or a file in CSV. The cells of merged ones all have its text, and cells
// with formulas what was last worked out; nothing is run. It ends with ctx.
func Tables(ctx context.Context, name string, raw []byte) ([]Table, error) {
	if len(raw) > sheet.MaxOctets {
		return nil, fmt.Errorf("the file has %d octets; read it in parts of at most %d", len(raw), sheet.MaxOctets)
	}
	if !bytes.HasPrefix(raw, []byte("PK")) {
		rows, err := sheet.ReadCSV(raw)
		return []Table{{name, rows}}, err
	}
	most := min(mostUnpacked, int64(firstOctets+packedAtMost*len(raw)))
	book, err := excelize.OpenReader(bytes.NewReader(raw),
		excelize.Options{UnzipSizeLimit: most, UnzipXMLSizeLimit: most})
	if err != nil {
		return nil, fmt.Errorf("the workbook cannot be read; save it as XLSX or CSV: %w", err)
	}
	defer book.Close()
	merged, err := mergedOf(ctx, raw)
	if err != nil {
		return nil, err
	}
	var out []Table
	for _, tab := range book.GetSheetList() {
		rows, err := tabRows(ctx, book, tab, merged[tab])
		if err != nil {
			return nil, fmt.Errorf("sheet %s: %w", tab, err)
		}
		if len(rows) > 0 {
			out = append(out, Table{name + ", " + tab, rows})
		}
	}
	if len(out) == 1 {
		out[0].Name = name
	}
	return out, nil
}

func tabRows(ctx context.Context, book *excelize.File, tab string, spans []span) ([]sheet.Row, error) {
	merged := newMerging(spans)
	lines, err := book.Rows(tab)
	if err != nil {
		return nil, err
	}
	defer lines.Close()
	var out []sheet.Row
	for number := 1; lines.Next(); number++ {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if number > maxLines {
			return nil, fmt.Errorf("it goes on after line %d; remove what is not needed, or save it as CSV", maxLines)
		}
		cells, err := lines.Columns()
		if err != nil {
			return nil, err
		}
		if out, err = sheet.Append(out, number, merged.fill(number, cells)); err != nil {
			return nil, err
		}
	}
	return out, lines.Error()
}

// book is a table as a workbook (XLSX). Each cell is text: none is run.
func book(title string, rows [][]string) ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	tab := f.GetSheetName(0)
	if err := f.SetSheetName(tab, title); err != nil {
		return nil, err
	}
	w, err := f.NewStreamWriter(title)
	if err != nil {
		return nil, err
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	for i, cells := range rows {
		line := make([]any, len(cells))
		for k, cell := range cells {
			if line[k] = cell; i == 0 {
				line[k] = excelize.Cell{StyleID: bold, Value: cell}
			}
		}
		if err := w.SetRow(fmt.Sprintf("A%d", i+1), line); err != nil {
			return nil, err
		}
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = f.Write(&out)
	return out.Bytes(), err
}
