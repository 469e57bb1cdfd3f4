package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A package has one row, in the order of names; the other table stays as it is.
func TestAPackageHasOneRow(t *testing.T) {
	const none = "| package | mutants |\n| --- | --- |\n\n| file | line | why |\n|---|---|---|\n| a.go | `x <= y` | same |\n"
	one := withRow(none, "core/b", result{killed: 3, survived: []string{"x"}}.row("core/b"))
	two := withRow(one, "core/a", result{killed: 1, whole: true}.row("core/a"))
	again := withRow(two, "core/b", result{killed: 4, whole: true}.row("core/b"))
	assert.Contains(t, one, "| --- | --- |\n| core/b | 4 | 3 | 0 | 1 | 75 | a sample |\n")
	assert.Contains(t, again, "| --- | --- |\n| core/a | 1 | 1 | 0 | 0 | 100 | all files |\n"+
		"| core/b | 4 | 4 | 0 | 0 | 100 | all files |\n\n")
	assert.Equal(t, map[[2]string]bool{{"a.go", "x <= y"}: true}, alike(again))
}

// A sample has whole files, about as many mutants as asked for, and the same files for the same seed.
func TestASampleIsOfWholeFiles(t *testing.T) {
	count := map[string]int{"a.go": 90, "b.go": 90, "c.go": 90, "d.go": 90}
	assert.Empty(t, leftOut(count, 360, 1))
	left := leftOut(count, 100, 1)
	assert.Len(t, left, 2)
	assert.Equal(t, left, leftOut(count, 100, 1))
}

// A fault in a line that changes nothing is counted apart; one that no test runs survives.
func TestFaultsAreCounted(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.go"), []byte("one\n\ttwo\nthree\n"), 0o600))
	var r report
	require.NoError(t, json.Unmarshal([]byte(`{"files":[{"file_name":"a.go","mutations":[
		{"type":"CONDITIONALS_NEGATION","status":"KILLED","line":1,"column":2},
		{"type":"CONDITIONALS_NEGATION","status":"TIMED OUT","line":1,"column":2},
		{"type":"CONDITIONALS_BOUNDARY","status":"LIVED","line":3,"column":2},
		{"type":"ARITHMETIC_BASE","status":"NOT COVERED","line":3,"column":1},
		{"type":"ARITHMETIC_BASE","status":"LIVED","line":2,"column":1}]}]}`), &r))
	out := judge(r, dir, map[[2]string]bool{{filepath.Join(dir, "a.go"), "two"}: true}, true)
	assert.Equal(t, result{killed: 2, endless: 1, equal: 1, whole: true, survived: []string{
		filepath.Join(dir, "a.go") + ":3:2: conditionals boundary: three",
		filepath.Join(dir, "a.go") + ":3:1: arithmetic base: three"}}, out)
}
