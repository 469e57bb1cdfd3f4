package sites

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// merged is a workbook with as many lines of merged cells.
func merged(t *testing.T, lines int) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	w, err := f.NewStreamWriter("Sheet1")
	require.NoError(t, err)
	for i := 1; i <= lines; i++ {
		require.NoError(t, w.SetRow(fmt.Sprintf("A%d", i), []any{fmt.Sprintf("n%d", i)}))
		require.NoError(t, w.MergeCell(fmt.Sprintf("A%d", i), fmt.Sprintf("C%d", i)))
	}
	require.NoError(t, w.Flush())
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	return out.Bytes()
}

// The work for merged ranges grows with their number alone: three thousand took a minute of the library's.
func TestAttack02MergedRangesAreReadOnce(t *testing.T) {
	tables, err := Tables(t.Context(), "m.xlsx", merged(t, 3000))
	require.NoError(t, err)
	require.Len(t, tables[0].Rows, 3000)
	assert.Equal(t, []string{"n2999", "n2999", "n2999"}, tables[0].Rows[2998].Cells)
	_, err = Tables(t.Context(), "m.xlsx", merged(t, maxMerged+1))
	require.ErrorContains(t, err, "more than 10000 merged ranges")
}

// Merged ranges over several lines, beyond the last column, and one that is no range.
func TestAttack02MergedCellsHaveTheTextOfTheFirst(t *testing.T) {
	m := newMerging([]span{{1, 1, 2, 3}, {60, 2, 60, 2}, {3, 9, 3, 1}})
	assert.Equal(t, []string{"a", "a"}, m.fill(1, []string{"a"}))
	second := m.fill(2, nil)
	require.Len(t, second, 60)
	assert.Equal(t, []string{"a", "a", ""}, second[:3])
	assert.Equal(t, []string{"a", "a", "x"}, m.fill(3, []string{"", "", "x"}))
	assert.Equal(t, []string{"", "", "y"}, m.fill(4, []string{"", "", "y"}))
}

// What unpacks to far more than it is, and a line far down, are refused before they are read.
func TestAttack02WorkbooksThatGrow(t *testing.T) {
	swap := func(body string) []byte {
		whole := merged(t, 1)
		in, err := zip.NewReader(bytes.NewReader(whole), int64(len(whole)))
		require.NoError(t, err)
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		for _, f := range in.File {
			if f.Name != "xl/worksheets/sheet1.xml" {
				require.NoError(t, w.Copy(f))
				continue
			}
			to, err := w.Create(f.Name)
			require.NoError(t, err)
			_, err = to.Write([]byte(`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"` +
				`><sheetData>` +
				body + `</sheetData></worksheet>`))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	row := `<row r="1"><c r="A1" t="inlineStr"><is><t>x</t></is></c></row>`
	_, err := Tables(t.Context(), "far.xlsx", swap(strings.ReplaceAll(row, `1"`, `1048576"`)))
	require.ErrorContains(t, err, "goes on after line 80000")
	_, err = Tables(t.Context(), "bomb.xlsx", swap(strings.Repeat(row, 200_000)))
	require.ErrorContains(t, err, "cannot be read")
}

// A workbook is read no longer than somebody waits for it.
func TestAttack02ReadingEndsWithItsRequest(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Tables(ctx, "m.xlsx", merged(t, 100))
	require.ErrorIs(t, err, context.Canceled)
}
