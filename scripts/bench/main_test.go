package main

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What go test prints, with a figure of a benchmark's own.
const printed = `goos: linux
BenchmarkPaste/first-2         	       3	 178766477 ns/op
BenchmarkPaste/as_a_site_file-2         	       3	 200000000 ns/op	 12 B/op
BenchmarkRounds-2   5   1 ns/op   1.9 list/rows
PASS`

func TestFiguresAreReadFromWhatIsPrinted(t *testing.T) {
	got := figures(printed)
	assert.Equal(t, 178766477.0, got[ns("Paste/first")])
	assert.Equal(t, 1.9, got[source{"Rounds", "list/rows"}])
	r := row{figure: ns("Paste/first"), per: ns("Paste/as_a_site_file")}
	times, err := r.from(got)
	require.NoError(t, err)
	assert.InDelta(t, 0.894, times, 0.001)
	r.per = ns("Paste/elsewhere")
	_, err = r.from(got)
	assert.ErrorContains(t, err, "Paste/elsewhere")
}

// A goal is missed only where the better quartile misses it.
func TestAGoalIsMissedByMoreThanTheScatter(t *testing.T) {
	m := measured{row: row{what: "x", unit: "times", goal: 3}, figures: []float64{2, 2.9, 3.1, 3.2, 4}}
	assert.False(t, m.missed())
	assert.Equal(t, "| x | 3.1 times | 2.9 to 3.2 | at most 3 | within the scatter |", m.line())
	m.figures[1] = 3.05
	assert.True(t, m.missed())
	m.least = true
	assert.False(t, m.missed())
	assert.Contains(t, m.line(), "| at least 3 | yes |")
	m.goal = 3.3
	assert.True(t, m.missed())
}

func TestAMedianStandsStill(t *testing.T) {
	assert.True(t, allStill([]measured{{figures: []float64{1, 5, 1.01, 1}}}))
	assert.False(t, allStill([]measured{{figures: []float64{1, 2, 2}}}))
}

func TestTheTableIsPutBetweenItsMarks(t *testing.T) {
	one := []measured{{row: row{what: "x"}, figures: []float64{0.00123}}}
	text, err := replaced("a\n"+begins+"old\n"+ends+"b\n", table(one, "two cores", "abc", time.Unix(0, 0).UTC()))
	require.NoError(t, err)
	assert.Equal(t, "a\n"+begins+"\nMeasured on 1970-01-01, at commit abc, on two cores.\n\n"+
		"| what | median | middle half | goal | met |\n|---|---|---|---|---|\n"+
		"| x | 0.00123 | 0.00123 to 0.00123 |  |  |\n\n"+ends+"b\n", text)
	_, err = replaced("a", "")
	assert.Error(t, err)
}
