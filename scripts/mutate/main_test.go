package main

import (
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A package has one row, in the order of names; the other table stays as it is.
func TestAPackageHasOneRow(t *testing.T) {
	const none = "| package | mutants |\n| --- | --- |\n\n| file | line | why |\n|---|---|---|\n| a.go | `x <= y` " +
		"| same |\n"
	one := withRow(none, "core/b", result{killed: 3, survived: []string{"x"}}.row("core/b"))
	two := withRow(one, "core/a", result{killed: 1, whole: true}.row("core/a"))
	again := withRow(two, "core/b", result{killed: 4, whole: true}.row("core/b"))
	assert.Contains(t, one, "| --- | --- |\n| core/b | 4 | 3 | 0 | 1 | 75 | a sample |\n")
	assert.Contains(t, again, "| --- | --- |\n| core/a | 1 | 1 | 0 | 0 | 100 | all |\n"+
		"| core/b | 4 | 4 | 0 | 0 | 100 | all |\n\n")
	assert.Equal(t, map[[2]string]bool{{"a.go", "x <= y"}: true}, alike(again))
}

// A sample has as many as asked for, the same for the same seed, in their order.
func TestASampleIsTheSameForTheSameSeed(t *testing.T) {
	var all []fault
	for i := range 100 {
		all = append(all, fault{number: i + 1})
	}
	assert.Equal(t, all, sample(all, 100, 1))
	one := sample(all, 20, 1)
	assert.Len(t, one, 20)
	assert.Equal(t, one, sample(all, 20, 1))
	assert.NotEqual(t, one, sample(all, 20, 2))
	assert.IsIncreasing(t, numbers(one))
}

func numbers(list []fault) (out []int) {
	for _, f := range list {
		out = append(out, f.number)
	}
	return out
}

// A fault in a line that changes nothing is counted apart; one that no test runs is not noticed, and says so.
func TestFaultsAreCounted(t *testing.T) {
	var r result
	same := map[[2]string]bool{{"a/b.go", "two"}: true}
	r.count(fault{text: "one"}, "a/b.go", true, false, true, same)
	r.count(fault{text: "two"}, "a/b.go", true, true, true, same)
	r.count(fault{text: "two"}, "a/b.go", false, false, true, same)
	r.count(fault{line: 3, what: "< negated", text: "x < y"}, "a/b.go", false, false, false, same)
	assert.Equal(t, result{killed: 2, endless: 1, equal: 1,
		survived: []string{"a/b.go:3: < negated, which no test runs: x < y"},
		files:    map[string]counted{"": {noticed: 2, all: 3}}}, r)
}

// Each operator that can be wrong is put behind a switch; constants, text and what is shifted stay.
func TestOperatorsArePutBehindSwitches(t *testing.T) {
	const source = `package p

const c = 1 + 2

func f(a, b int, s string, m map[string]int) bool {
	for i := 0; i < a; i++ {
		m[s]++
	}
	_ = s + "x"
	_ = a & (1<<b - 1)
	return a == b && -a*(a+b)%2 >= c
}
`
	fset := token.NewFileSet()
	file, err := parser.ParseFile(fset, "p.go", source, parser.ParseComments)
	require.NoError(t, err)
	info := &types.Info{Types: map[ast.Expr]types.TypeAndValue{}, Uses: map[*ast.Ident]types.Object{},
		Defs: map[*ast.Ident]types.Object{}}
	_, err = (&types.Config{Importer: importer.Default()}).Check("p", fset, []*ast.File{file}, info)
	require.NoError(t, err)
	var faults []fault
	w := writer{[]byte(source), strings.Split(source, "\n"), fset, info, "p.go", &faults}
	assert.Equal(t, `package p

const c = 1 + 2

func f(a, b int, s string, m map[string]int) bool {
	for i := 0; mLT(1, 2, i, a); mInc(3, &i) {
		m[s] += mStep(4)
	}
	_ = s + "x"
	_ = a & (1<<b - 1)
	return (mOn(5) != (a == b)) && mGE(6, 7, mMod(8, mMul(9, mNeg(10, a), (mAdd(11, a, b))), 2), c)
}
`, string(w.whole(file)))
	assert.Equal(t, `p.go:6: boundary of <: for i := 0; i < a; i++ {`, faults[0].String())
	assert.IsIncreasing(t, numbers(faults))
	assert.Len(t, faults, 11)
}
