package work_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"lithos/core/scenario"
	"lithos/internal/actor"
	"lithos/internal/sites"
	"lithos/internal/work"
)

// workbook is a workbook as an office keeps it: a title over merged cells, and the network of many lines in one.
func workbook(t *testing.T) []byte {
	f := excelize.NewFile()
	set := func(cell string, v any) { require.NoError(t, f.SetCellValue("Sheet1", cell, v)) }
	set("A1", "Machines of the practice")
	require.NoError(t, f.MergeCell("Sheet1", "A1", "D1"))
	for i, title := range []string{"Where", "IP", "Hardware address", "Called"} {
		set(fmt.Sprintf("%c3", 'A'+i), title)
	}
	set("A4", "Clinic floor")
	require.NoError(t, f.MergeCell("Sheet1", "A4", "A6"))
	set("B4", "10.84.18.210")
	set("C4", "00-00-5E-00-53-D1")
	set("D4", "scale")
	set("C5", "00-00-5E-00-53-D2")
	set("D5", "=1+1")
	set("B6", "10.84.18.212")
	set("C6", "00-00-5E-00-53-D3")
	set("D6", "lamp")
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	require.NoError(t, f.Close())
	return out.Bytes()
}

// The columns of a workbook are recognised, corrected once, and remembered; lines are taken or left.
func TestAWorkbookIsTakenIn(t *testing.T) {
	o := open(t)
	id := o.at("kelder-bridge")
	in := work.TakeIn{Version: o.version(id), Files: []work.TakenFile{{Name: "machines.xlsx", Data: workbook(t)}}}
	v, err := o.PreviewTakeIn(t.Context(), id, in)
	require.NoError(t, err)
	require.Len(t, v.Tables, 1)
	assert.Equal(t, 3, v.Tables[0].Heading)
	assert.Equal(t, "mac", v.Tables[0].Columns[2].Holds)
	assert.Empty(t, v.Tables[0].Columns[3].Holds, "nobody says so in a heading")
	assert.False(t, v.Tables[0].Remembered)

	in.Columns = []work.TableHolds{{Table: "machines.xlsx", Columns: []string{"network", "address", "mac", "name"}}}
	v, err = o.PreviewTakeIn(t.Context(), id, in)
	require.NoError(t, err)
	require.Len(t, v.Lines, 5)
	assert.Equal(t, "added", v.Lines[2].State, v.Lines[2].Says)
	assert.Equal(t, "added", v.Lines[4].State, v.Lines[4].Says)
	assert.Contains(t, v.Lines[3].Says, "no host name", "a formula is text, and no name")
	in.Cells = []work.CellSays{{Line: v.Lines[3].ID, Column: 3, Text: "57-lamp"}}
	v, err = o.PreviewTakeIn(t.Context(), id, in)
	require.NoError(t, err)
	assert.Equal(t, "57-lamp", v.Lines[3].Cells[3])
	assert.NotContains(t, v.Lines[3].Says, "no host name", "57: corrected where it is looked at")
	refusal(t, func() error {
		_, err := o.PreviewTakeIn(t.Context(), id, work.TakeIn{Files: in.Files, Cells: []work.CellSays{{Column: 60}}})
		return err
	}(), actor.Invalid, "at most 60 columns")
	in.Leave = []string{v.Lines[4].ID}
	v, err = o.ApplyTakeIn(t.Context(), o.mk, id, in)
	require.NoError(t, err)
	assert.Equal(t, o.version(id), v.Version)
	assert.False(t, v.Lines[4].Taken)
	was := len(scenario.Site("kelder-bridge").Reservations)
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, d.Steps, 1)
	assert.Equal(t, was+v.Edits, len(d.Doc().Reservations))

	again := work.TakeIn{Version: o.version(id), Files: in.Files}
	v, err = o.PreviewTakeIn(t.Context(), id, again)
	require.NoError(t, err)
	assert.True(t, v.Tables[0].Remembered, "what was corrected is remembered")
	assert.Equal(t, "same", v.Lines[2].State)
	assert.Equal(t, "added", v.Lines[4].State)
}

// Two files at once, one a site file; a broken one is refused by its name, and nothing is changed.
func TestSeveralFilesAreTakenIn(t *testing.T) {
	o := open(t)
	id := o.at("hallin-road")
	doc := scenario.Site("hallin-road")
	doc.Reservations[0].Name = "renamed-pc"
	raw, err := json.Marshal(doc)
	require.NoError(t, err)
	in := work.TakeIn{Version: o.version(id), Files: []work.TakenFile{{Name: "site.json", Data: raw},
		{Name: "more.csv", Data: []byte("IP,MAC,Name\n10.84.34.9,00:00:5e:00:53:d1,scale\n")}}}
	v, err := o.PreviewTakeIn(t.Context(), id, in)
	require.NoError(t, err)
	assert.Equal(t, "changed", v.Lines[0].State)
	assert.Contains(t, v.Lines[0].Says, "renamed-pc")
	assert.Equal(t, "more.csv", v.Lines[len(v.Lines)-1].Source)
	for _, broken := range []work.TakenFile{{Name: "x.xlsx", Data: []byte("PK\x03\x04 and no more")},
		{Name: "x.json", Data: []byte("{")}} {
		_, err := o.PreviewTakeIn(t.Context(), id, work.TakeIn{Files: []work.TakenFile{broken}})
		require.ErrorContains(t, err, broken.Name)
	}
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, d.Steps)
}

// What is written out as a workbook is read back the same, and no cell is a formula.
func TestAWorkbookIsWrittenOut(t *testing.T) {
	o := open(t)
	id := o.at("kelder-bridge")
	raw, err := o.Sites.Sheet(t.Context(), o.mk, "kelder-bridge", "addresses", false, true)
	require.NoError(t, err)
	tables, err := sites.Tables(t.Context(), "out.xlsx", raw)
	require.NoError(t, err)
	require.Len(t, tables, 1)
	v, err := o.PreviewTakeIn(t.Context(), id, work.TakeIn{Files: []work.TakenFile{{Name: "out.xlsx", Data: raw}}})
	require.NoError(t, err)
	assert.Zero(t, v.Edits)
	book, err := excelize.OpenReader(bytes.NewReader(raw))
	require.NoError(t, err)
	defer book.Close()
	formula, err := book.GetCellFormula("addresses", "D2")
	require.NoError(t, err)
	assert.Empty(t, formula)
}
