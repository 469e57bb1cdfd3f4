package fleet

import (
	"bytes"
	"fmt"

	"github.com/xuri/excelize/v2"

	"lithos/core/sheet"
)

// What is read of a workbook at most, in octets once it is unpacked.
const mostUnpacked = 64 << 20

// Table is a table of a file.
type Table struct {
	Name string // of the file, with that of the sheet where there are several
	Rows []sheet.Row
}

// Tables reads the sheets of a workbook (XLSX), or a file in CSV. The cells of merged ones all have its text, and cells
// with formulas what was last worked out; nothing is run.
func Tables(name string, raw []byte) ([]Table, error) {
	if len(raw) > sheet.MaxOctets {
		return nil, fmt.Errorf("the file has %d octets; read it in parts of at most %d", len(raw), sheet.MaxOctets)
	}
	if !bytes.HasPrefix(raw, []byte("PK")) {
		rows, err := sheet.ReadCSV(raw)
		return []Table{{name, rows}}, err
	}
	book, err := excelize.OpenReader(bytes.NewReader(raw),
		excelize.Options{UnzipSizeLimit: mostUnpacked, UnzipXMLSizeLimit: mostUnpacked})
	if err != nil {
		return nil, fmt.Errorf("the workbook cannot be read; save it as XLSX or CSV: %w", err)
	}
	defer book.Close()
	var out []Table
	for _, tab := range book.GetSheetList() {
		rows, err := tabRows(book, tab)
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

// cellAt is a cell by its column and line, from 1.
type cellAt struct{ column, line int }

func tabRows(book *excelize.File, tab string) ([]sheet.Row, error) {
	merged, err := mergedCells(book, tab)
	if err != nil {
		return nil, err
	}
	lines, err := book.Rows(tab)
	if err != nil {
		return nil, err
	}
	defer lines.Close()
	var out []sheet.Row
	for number := 1; lines.Next(); number++ {
		cells, err := lines.Columns()
		if err != nil {
			return nil, err
		}
		for column := 1; column <= sheet.MaxColumns; column++ {
			text, ok := merged[cellAt{column, number}]
			for ok && len(cells) < column {
				cells = append(cells, "")
			}
			if ok {
				cells[column-1] = text
			}
		}
		if out, err = sheet.Append(out, number, cells); err != nil {
			return nil, err
		}
	}
	return out, lines.Error()
}

// mergedCells is the text of cells that are merged with others.
func mergedCells(book *excelize.File, tab string) (map[cellAt]string, error) {
	out := map[cellAt]string{}
	list, err := book.GetMergeCells(tab)
	for _, m := range list {
		left, top, err1 := excelize.CellNameToCoordinates(m.GetStartAxis())
		right, bottom, err2 := excelize.CellNameToCoordinates(m.GetEndAxis())
		if err1 != nil || err2 != nil {
			continue
		}
		for line := top; line <= min(bottom, sheet.MaxRows); line++ {
			for column := left; column <= min(right, sheet.MaxColumns); column++ {
				out[cellAt{column, line}] = m.GetCellValue()
			}
		}
	}
	return out, err
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
