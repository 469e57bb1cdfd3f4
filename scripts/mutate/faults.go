package main

import (
	_ "embed"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"strings"
)

// fault is one small change of a package. Its number switches it on.
type fault struct {
	number int
	file   string // its name alone
	line   int
	what   string // what is changed, for example "boundary of <"
	text   string // the line as it is
}

func (f fault) String() string { return fmt.Sprintf("%s:%d: %s: %s", f.file, f.line, f.what, f.text) }

// switches is the file that a package is given: functions that do what an operator does, or, where their fault is
// switched on, something else. It is formatted with the package's name.
//
//go:embed switches.go.txt
var switches string

// writer writes a source file anew, with each operator that can be wrong behind a switch.
type writer struct {
	source []byte
	lines  []string
	fset   *token.FileSet
	info   *types.Info
	file   string
	faults *[]fault
}

// whole is the file, written anew.
func (w *writer) whole(f *ast.File) []byte {
	begin, end := w.offset(f.Pos()), w.offset(f.End())
	return []byte(string(w.source[:begin]) + w.text(f) + string(w.source[end:]))
}

func (w *writer) offset(p token.Pos) int { return w.fset.Position(p).Offset }

// text is a node with everything inside it that can be wrong behind switches.
func (w *writer) text(n ast.Node) string {
	var out strings.Builder
	at := w.offset(n.Pos())
	ast.Inspect(n, func(in ast.Node) bool {
		if g, ok := in.(*ast.GenDecl); ok && g.Tok == token.CONST {
			return false
		}
		if in == nil || in == n || !w.canBeWrong(in) {
			return in != nil
		}
		out.Write(w.source[at:w.offset(in.Pos())])
		out.WriteString(w.switched(in))
		at = w.offset(in.End())
		return false
	})
	out.Write(w.source[at:w.offset(n.End())])
	return out.String()
}

// operand is a part of an expression, itself behind a switch where it can be wrong.
func (w *writer) operand(e ast.Expr) string {
	if w.canBeWrong(e) {
		return w.switched(e)
	}
	return w.text(e)
}

// comparisons and calculations are the functions of switches that do what an operator does.
var (
	comparisons  = map[token.Token]string{token.LSS: "mLT", token.LEQ: "mLE", token.GTR: "mGT", token.GEQ: "mGE"}
	calculations = map[token.Token]string{token.ADD: "mAdd", token.SUB: "mSub", token.MUL: "mMul", token.QUO: "mDiv",
		token.REM: "mMod"}
)

// canBeWrong reports whether a node is a comparison, a calculation with numbers, a sign or a step by one. What the
// compiler works out itself is left alone.
func (w *writer) canBeWrong(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		if n.Op == token.EQL || n.Op == token.NEQ || comparisons[n.Op] != "" {
			return w.info.Types[n].Value == nil
		}
		return calculations[n.Op] != "" && w.isNumber(n) && !w.shifts(n.X) && !w.shifts(n.Y)
	case *ast.UnaryExpr:
		return n.Op == token.SUB && w.isNumber(n)
	case *ast.IncDecStmt:
		return true
	}
	return false
}

func (w *writer) isNumber(e ast.Expr) bool {
	of := w.info.Types[e]
	basic, ok := of.Type.Underlying().(*types.Basic)
	return ok && of.Value == nil && basic.Info()&types.IsNumeric != 0 && basic.Info()&types.IsUntyped == 0
}

// shifts reports whether an expression shifts a constant, which takes its type from what is around it.
func (w *writer) shifts(e ast.Expr) bool {
	b, ok := ast.Unparen(e).(*ast.BinaryExpr)
	return ok && b.Op == token.SHL && w.info.Types[b.X].Value != nil
}

// switched is a node that can be wrong, with its switches.
func (w *writer) switched(n ast.Node) string {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		op := n.Op.String()
		if n.Op == token.EQL || n.Op == token.NEQ {
			return fmt.Sprintf("(mOn(%d) != (%s %s %s))", w.fault(n.OpPos, op+" negated"), w.operand(n.X), op,
				w.operand(n.Y))
		}
		if f := comparisons[n.Op]; f != "" {
			boundary := w.fault(n.OpPos, "boundary of "+op)
			return fmt.Sprintf("%s(%d, %d, %s, %s)", f, boundary, w.fault(n.OpPos, op+" negated"), w.operand(n.X),
				w.operand(n.Y))
		}
		return fmt.Sprintf("%s(%d, %s, %s)", calculations[n.Op], w.fault(n.OpPos, "another operator than "+op),
			w.operand(n.X), w.operand(n.Y))
	case *ast.UnaryExpr:
		return fmt.Sprintf("mNeg(%d, %s)", w.fault(n.Pos(), "without its sign"), w.operand(n.X))
	}
	step := n.(*ast.IncDecStmt)
	number := w.fault(step.TokPos, "the other step than "+step.Tok.String())
	// Of a map's entry there is no pointer.
	if at, ok := step.X.(*ast.IndexExpr); ok {
		if _, ok := w.info.TypeOf(at.X).Underlying().(*types.Map); ok {
			return fmt.Sprintf("%s %c= mStep(%d)", w.text(step.X), step.Tok.String()[0], number)
		}
	}
	f := map[token.Token]string{token.INC: "mInc", token.DEC: "mDec"}[step.Tok]
	return fmt.Sprintf("%s(%d, &%s)", f, number, w.text(step.X))
}

// fault notes one and gives its number.
func (w *writer) fault(at token.Pos, what string) int {
	line := w.fset.Position(at).Line
	*w.faults = append(*w.faults, fault{len(*w.faults) + 1, w.file, line, what, strings.TrimSpace(w.lines[line-1])})
	return len(*w.faults)
}
