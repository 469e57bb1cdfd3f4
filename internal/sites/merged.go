package sites

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/xuri/excelize/v2"

	"lithos/core/sheet"
)

// maxMerged is how many merged ranges are read of one sheet.
const maxMerged = 10_000

// span is a range of merged cells; columns and lines count from 1.
type span struct{ left, top, right, bottom int }

// mergedOf reads which cells are merged, by the name of their sheet. It reads the workbook's XML as a stream and ends
// with ctx: the library that reads the cells compares each range with each other one.
func mergedOf(ctx context.Context, raw []byte) (map[string][]span, error) {
	files, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return nil, err
	}
	targets := map[string]string{} // by relationship
	err = elements(ctx, files, "xl/_rels/workbook.xml.rels", "Relationship", func(a map[string]string) error {
		target := strings.TrimPrefix(a["Target"], "/")
		if !strings.HasPrefix(target, "xl/") {
			target = path.Join("xl", target)
		}
		targets[a["Id"]] = target
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := map[string][]span{}
	err = elements(ctx, files, "xl/workbook.xml", "sheet", func(a map[string]string) error {
		spans, err := mergedIn(ctx, files, targets[a["id"]])
		if err != nil {
			return fmt.Errorf("sheet %s: %w", a["name"], err)
		}
		out[a["name"]] = spans
		return nil
	})
	return out, err
}

func mergedIn(ctx context.Context, files *zip.Reader, name string) (out []span, err error) {
	err = elements(ctx, files, name, "mergeCell", func(a map[string]string) error {
		if len(out) == maxMerged {
			return fmt.Errorf("it has more than %d merged ranges; take the merging away, or save it as CSV", maxMerged)
		}
		from, to, ok := strings.Cut(a["ref"], ":")
		if !ok {
			to = from
		}
		left, top, err1 := excelize.CellNameToCoordinates(from)
		right, bottom, err2 := excelize.CellNameToCoordinates(to)
		if err1 == nil && err2 == nil {
			out = append(out, span{left, top, min(right, sheet.MaxColumns), bottom})
		}
		return nil
	})
	return out, err
}

// elements calls each for the attributes of every element of a name, in one file of a workbook. A file that is not
// there has none.
func elements(ctx context.Context, files *zip.Reader, file, name string, each func(map[string]string) error) error {
	f, err := files.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	decoder := xml.NewDecoder(io.LimitReader(f, mostUnpacked))
	decoder.Strict = false
	for n := 0; ; n++ {
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		token, err := decoder.RawToken()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("the workbook cannot be read: %w", err)
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != name {
			continue
		}
		attributes := map[string]string{}
		for _, a := range start.Attr {
			attributes[a.Name.Local] = a.Value
		}
		if err := each(attributes); err != nil {
			return err
		}
	}
}

// merging gives the cells of merged ranges the text of their first one, line after line.
type merging struct {
	at     map[int][]span // by their first line
	active [sheet.MaxColumns + 1]struct {
		text   string
		bottom int
	}
}

func newMerging(spans []span) *merging {
	m := &merging{at: map[int][]span{}}
	for _, s := range spans {
		m.at[s.top] = append(m.at[s.top], s)
	}
	return m
}

// fill is the cells of a line with those of merged ranges filled in.
func (m *merging) fill(line int, cells []string) []string {
	for _, s := range m.at[line] {
		text := ""
		if s.left <= len(cells) {
			text = cells[s.left-1]
		}
		for column := s.left; column <= s.right; column++ {
			m.active[column].text, m.active[column].bottom = text, s.bottom
		}
	}
	for column := 1; column <= sheet.MaxColumns; column++ {
		if m.active[column].bottom < line {
			continue
		}
		for len(cells) < column {
			cells = append(cells, "")
		}
		cells[column-1] = m.active[column].text
	}
	return cells
}
