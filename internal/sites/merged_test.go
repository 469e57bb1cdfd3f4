package sites

import (
	"archive/zip"
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"lithos/core/sheet"
)

// Whatever a workbook says of merged cells, it is read or refused, and every line that is filled has as many cells as a
// table may have.
func FuzzMerged(f *testing.F) {
	f.Add(`<mergeCells><mergeCell ref="A1:B3"/></mergeCells>`)
	f.Add(`<mergeCell ref="A1"/><mergeCell ref="XFD1:A1"/><mergeCell ref="B0:!"/>`)
	f.Add(`<mergeCell ref="A1:ZZZ9`)
	f.Fuzz(func(t *testing.T, text string) {
		var raw bytes.Buffer
		book := zip.NewWriter(&raw)
		for name, holds := range map[string]string{
			"xl/_rels/workbook.xml.rels": `<Relationship Id="r1" Target="sheet.xml"/>`,
			"xl/workbook.xml":            `<sheet name="One" id="r1"/>`, "xl/sheet.xml": text} {
			w, err := book.Create(name)
			require.NoError(t, err)
			_, err = w.Write([]byte(holds))
			require.NoError(t, err)
		}
		require.NoError(t, book.Close())
		spans, err := mergedOf(t.Context(), raw.Bytes())
		if err != nil {
			return
		}
		require.LessOrEqual(t, len(spans["One"]), maxMerged)
		m := newMerging(spans["One"])
		for n := range 3 {
			require.LessOrEqual(t, len(m.fill(n+1, []string{"a", "b"})), sheet.MaxColumns)
		}
	})
}
