package work

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"path"
	"slices"
	"strings"

	"lithos/core/edit"
	"lithos/core/merge"
	"lithos/core/sheet"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/sites"
)

// TakeIn is files whose lines are taken into a draft.
type TakeIn struct {
	Version int32        `json:"version" doc:"the draft's version it was made on"`
	Files   []TakenFile  `json:"files" minItems:"1" maxItems:"12"`
	Columns []TableHolds `json:"columns,omitempty" maxItems:"40" doc:"what the columns of tables hold, where that was corrected"`
	Take    []string     `json:"take,omitempty" maxItems:"20000" doc:"ids of lines in conflict that are taken all the same"`
	Cells   []CellSays   `json:"cells,omitempty" maxItems:"5000" doc:"what cells of tables say instead"`
	Leave   []string     `json:"leave,omitempty" maxItems:"20000" doc:"ids of lines that are left"`
}

// TakenFile is a file: a table in CSV or XLSX, or a site file.
type TakenFile struct {
	Name string `json:"name" maxLength:"255"`
	Data []byte `json:"data" doc:"its octets, in Base64"`
}

// CellSays is what a cell of a table says instead of what its file has.
type CellSays struct {
	Line   string `json:"line" maxLength:"24" doc:"id of its line"`
	Column int    `json:"column" minimum:"0" maximum:"59" doc:"index of its column"`
	Text   string `json:"text" maxLength:"1000"`
}

// TableHolds is what the columns of a table hold.
type TableHolds struct {
	Table   string   `json:"table" doc:"its name"`
	Columns []string `json:"columns" maxItems:"60"`
}

// TakeInView is what becomes of each line.
type TakeInView struct {
	Tables []TableView     `json:"tables"`
	Lines  []merge.Outcome `json:"lines"`
	Counts []StateCount    `json:"counts"`
	Edits  int             `json:"edits" doc:"how many edits the lines that are taken come to"`
	// Version is that of the draft, with the lines where they were taken.
	Version int32 `json:"version"`
}

// StateCount is how many lines there are of a state.
type StateCount struct {
	State string `json:"state"`
	Lines int    `json:"lines"`
	Taken int    `json:"taken"`
}

// TableView is a table with what its columns were taken for.
type TableView struct {
	Name       string        `json:"name"`
	Lines      int           `json:"lines"`
	Heading    int           `json:"heading" doc:"number of the line that is its heading; 0 for none"`
	Columns    []TableColumn `json:"columns"`
	Remembered bool          `json:"remembered" doc:"whether somebody said before what columns with these headings hold"`
}

// TableColumn is a column of a table.
type TableColumn struct {
	Title  string `json:"title"`
	Sample string `json:"sample"`
	Holds  string `json:"holds" enum:",kind,network,vlan,prefix,mask,gateway,address,last,mac,name,note"`
}

// PreviewTakeIn says what becomes of each line of files in a draft. Nothing is changed.
func (s *Service) PreviewTakeIn(ctx context.Context, id int64, t TakeIn) (*TakeInView, error) {
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	v, _, err := s.takeIn(ctx, d, t)
	return v, err
}

// ApplyTakeIn takes the lines of files into a draft, as one step, and remembers what was said of columns.
func (s *Service) ApplyTakeIn(ctx context.Context, by actor.Technician, id int64, t TakeIn) (*TakeInView, error) {
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	v, edits, err := s.takeIn(ctx, d, t)
	if err != nil {
		return nil, err
	}
	if len(edits) == 0 {
		return nil, actor.Refuse(actor.Conflict, "Nothing was taken in: no line that is taken changes anything.")
	}
	edited, err := s.Drafts.Edit(ctx, by, id, draft.Change{Version: t.Version, Edits: edits}, nil)
	if err != nil {
		return nil, err
	}
	v.Version = edited.After.Order.Version
	for _, table := range v.Tables {
		said := slices.ContainsFunc(t.Columns, func(h TableHolds) bool { return h.Table == table.Name })
		if said && table.Heading > 0 {
			if err := s.Store.RememberColumns(ctx, by.ID, headingsOf(table), holds(table)); err != nil {
				return nil, err
			}
		}
	}
	return v, nil
}

func (s *Service) takeIn(ctx context.Context, d *order.Draft, t TakeIn) (*TakeInView, []edit.Edit, error) {
	take, leave := map[string]bool{}, map[string]bool{}
	for _, id := range t.Take {
		take[id] = true
	}
	for _, id := range t.Leave {
		leave[id] = true
	}
	m := merge.New(d.Doc(), func(l merge.Outcome) bool {
		return !leave[l.ID] && (l.State != merge.Conflict || take[l.ID])
	}, func(kind string) string { return kind + "-" + strings.ToLower(rand.Text()[:10]) })
	for _, c := range t.Cells {
		if c.Column < 0 || c.Column >= sheet.MaxColumns {
			return nil, nil, actor.Refuse(actor.Invalid, "Nothing was taken in: a table has at most %d columns.",
				sheet.MaxColumns)
		}
		m.Correct(c.Line, c.Column, c.Text)
	}
	v := &TakeInView{Tables: []TableView{}, Counts: []StateCount{}, Version: t.Version}
	for _, f := range t.Files {
		if err := s.file(ctx, m, v, f, t.Columns); err != nil {
			return nil, nil, err
		}
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
	}
	lines, edits := m.Lines()
	v.Lines, v.Edits = lines, len(edits)
	for _, state := range []string{merge.Added, merge.Changed, merge.Same, merge.Conflict, merge.Wrong, merge.Skipped} {
		c := StateCount{State: state}
		for _, l := range lines {
			if l.State == state {
				c.Lines++
				if l.Taken {
					c.Taken++
				}
			}
		}
		v.Counts = append(v.Counts, c)
	}
	return v, edits, nil
}

// file takes one file in: a site file by its parts, any other as tables.
func (s *Service) file(ctx context.Context, m *merge.Merger, v *TakeInView, f TakenFile, said []TableHolds) error {
	name := path.Base(site.Printable(f.Name, 255))
	wrong := func(err error) error {
		return actor.RefuseFields("Nothing was taken in", site.FieldErrors{{Field: "files",
			Says: fmt.Sprintf("%s: %s", name, err)}})
	}
	if ext := strings.ToLower(path.Ext(name)); ext == ".json" || ext == ".yaml" || ext == ".yml" {
		other, err := site.Read(bytes.NewReader(f.Data))
		if err == nil {
			err = m.Site(name, other)
		}
		if err != nil {
			return wrong(err)
		}
		return nil
	}
	tables, err := sites.Tables(ctx, name, f.Data)
	if err != nil {
		return wrong(err)
	}
	for _, table := range tables {
		view, err := s.table(ctx, table, said)
		if err != nil {
			return err
		}
		v.Tables = append(v.Tables, view)
		head := slices.IndexFunc(table.Rows, func(r sheet.Row) bool { return r.Number == view.Heading })
		m.Table(table.Name, table.Rows, head, holds(view))
	}
	return nil
}

// table recognises the columns of a table, by what was said of them now, or before, or by their headings.
func (s *Service) table(ctx context.Context, t sites.Table, said []TableHolds) (TableView, error) {
	head, columns := merge.Recognise(t.Rows)
	out := TableView{Name: t.Name, Lines: len(t.Rows), Columns: []TableColumn{}}
	if head >= 0 {
		out.Heading = t.Rows[head].Number
	}
	width := 0
	for _, r := range t.Rows {
		width = max(width, len(r.Cells))
	}
	for i := range width {
		c := TableColumn{}
		if head >= 0 && i < len(t.Rows[head].Cells) {
			c.Title = t.Rows[head].Cells[i]
		}
		for _, r := range t.Rows[head+1:] {
			if i < len(r.Cells) && r.Cells[i] != "" {
				c.Sample = r.Cells[i]
				break
			}
		}
		if i < len(columns) {
			c.Holds = columns[i]
		}
		out.Columns = append(out.Columns, c)
	}
	kept, err := s.Store.RememberedColumns(ctx, headingsOf(out))
	if err != nil {
		return out, err
	}
	if at := slices.IndexFunc(said, func(h TableHolds) bool { return h.Table == t.Name }); at >= 0 {
		kept = said[at].Columns
	} else {
		out.Remembered = len(kept) > 0 && out.Heading > 0
	}
	for i := range out.Columns {
		if i < len(kept) && out.Heading+len(said) > 0 {
			out.Columns[i].Holds = kept[i]
		}
	}
	return out, nil
}

// headingsOf is what tables with the same headings have in common.
func headingsOf(t TableView) string {
	var out []string
	for _, c := range t.Columns {
		out = append(out, strings.ToLower(c.Title))
	}
	return strings.Join(out, "\t")
}

func holds(t TableView) []string {
	out := []string{}
	for _, c := range t.Columns {
		out = append(out, c.Holds)
	}
	return out
}
