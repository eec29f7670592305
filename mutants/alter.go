package main

import (
	"bytes"
	"cmp"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"slices"
	"strconv"
)

// fate is what became of a mutant.
type fate string

const (
	lives        fate = "no test fails"
	notReached   fate = "no test gets there"
	killedByTest fate = "a test fails"
	killedByTime fate = "the tests do not end"
)

// mutant is one alteration.
type mutant struct {
	number int // by which it is switched on; from 1
	file   string
	line   int
	what   string // what is altered, and the line
	fate   fate
}

// edit replaces some bytes of a file. Of those at one place, what closes comes first and what opens
// last; what opens further out comes before what opens further in, and closes after it.
type edit struct {
	from, to int
	with     string
	order    int
}

const (
	closes = -1 << 30
	opens  = 1 << 30
)

// alterer puts switches into one file of a package.
type alterer struct {
	p       *loaded
	file    int // in GoFiles
	skip    map[string]bool
	mutants *[]*mutant
	edits   []edit
}

// place is a line of a file.
func place(file string, line int) string { return fmt.Sprintf("%s:%d", file, line) }

// altered is the file with a switch at every place that can be another one.
func (a *alterer) altered() []byte {
	for _, d := range a.p.trees[a.file].Decls {
		a.walk(d)
	}
	slices.SortStableFunc(a.edits, func(x, y edit) int { return cmp.Or(cmp.Compare(x.from, y.from), cmp.Compare(x.order, y.order)) })
	var out bytes.Buffer
	at, text := 0, a.p.text[a.file]
	for _, e := range a.edits {
		out.Write(text[at:e.from])
		out.WriteString(e.with)
		at = e.to
	}
	out.Write(text[at:])
	return out.Bytes()
}

// walk looks at a part of the file. Constants that have to stay ones are passed over.
func (a *alterer) walk(part ast.Node) {
	ast.Inspect(part, func(n ast.Node) bool {
		switch v := n.(type) {
		case *ast.GenDecl:
			return v.Tok == token.VAR
		case *ast.ArrayType:
			a.walk(v.Elt)
			return false
		case *ast.CaseClause:
			for _, e := range v.List {
				if a.p.info.Types[e].Value == nil {
					a.walk(e)
				}
			}
			for _, s := range v.Body {
				a.walk(s)
			}
			return false
		case *ast.IncDecStmt:
			a.step(v)
		case *ast.UnaryExpr:
			a.negative(v)
		case *ast.BinaryExpr:
			a.binary(v)
		}
		return true
	})
}

// add counts a mutant; ok is false where there is to be none.
func (a *alterer) add(at token.Pos, what string) (number int, ok bool) {
	where := a.p.files.Position(at)
	if a.skip[place(where.Filename, where.Line)] {
		return 0, false
	}
	lines := bytes.Split(a.p.text[a.file], []byte("\n"))
	m := &mutant{
		number: len(*a.mutants) + 1, file: where.Filename, line: where.Line,
		what: what + ": " + string(bytes.TrimSpace(lines[where.Line-1])),
	}
	*a.mutants = append(*a.mutants, m)
	return m.number, true
}

func (a *alterer) offset(at token.Pos) int { return a.p.files.Position(at).Offset }

// around puts something before and behind an expression, and in the place of its operator, unless that
// is empty.
func (a *alterer) around(e *ast.BinaryExpr, before, operator, behind string) {
	depth := len(a.edits)
	from, to, at := a.offset(e.X.Pos()), a.offset(e.Y.End()), a.offset(e.OpPos)
	a.edits = append(a.edits, edit{from, from, before, opens + depth}, edit{to, to, behind, closes - depth})
	if operator != "" {
		a.edits = append(a.edits, edit{at, at + len(e.Op.String()), operator, 0})
	}
}

// Functions of switches, by the operator in whose place they stand.
var (
	bounds = map[token.Token]string{token.LSS: "mutantLess", token.LEQ: "mutantAtMost", token.GTR: "mutantMore", token.GEQ: "mutantAtLeast"}
	sums   = map[token.Token]string{
		token.ADD: "mutantSum", token.SUB: "mutantDifference", token.MUL: "mutantProduct", token.QUO: "mutantQuotient", token.REM: "mutantRest",
	}
)

func (a *alterer) binary(e *ast.BinaryExpr) {
	constant := a.p.info.Types[e].Value != nil
	switch {
	case (e.Op == token.EQL || e.Op == token.NEQ) && !constant:
		if n, ok := a.add(e.OpPos, "the opposite of "+e.Op.String()); ok {
			a.around(e, "((", "", fmt.Sprintf(") != mutant(%d))", n))
		}
	case bounds[e.Op] != "" && !constant:
		edge, ok := a.add(e.OpPos, "the edge of "+e.Op.String())
		if !ok {
			return
		}
		opposite, _ := a.add(e.OpPos, "the opposite of "+e.Op.String())
		a.around(e, fmt.Sprintf("(%s(%d, ", bounds[e.Op], edge), ",", fmt.Sprintf(") != mutant(%d))", opposite))
	case sums[e.Op] != "" && a.isNumber(e):
		if n, ok := a.add(e.OpPos, "another sum than "+e.Op.String()); ok {
			a.around(e, fmt.Sprintf("%s[%s](%d, ", sums[e.Op], a.typeOf(e), n), ",", ")")
		}
	}
}

func (a *alterer) negative(e *ast.UnaryExpr) {
	if e.Op != token.SUB || !a.isNumber(e) {
		return
	}
	if n, ok := a.add(e.OpPos, "the sign"); ok {
		depth, from, to := len(a.edits), a.offset(e.OpPos), a.offset(e.X.End())
		a.edits = append(a.edits,
			edit{from, from + 1, fmt.Sprintf("mutantNegative[%s](%d, ", a.typeOf(e), n), opens + depth}, edit{to, to, ")", closes - depth})
	}
}

func (a *alterer) step(s *ast.IncDecStmt) {
	if !a.isNumber(s.X) {
		return
	}
	if n, ok := a.add(s.TokPos, "another way than "+s.Tok.String()); ok {
		operator := map[token.Token]string{token.INC: "+=", token.DEC: "-="}[s.Tok]
		at := a.offset(s.TokPos)
		a.edits = append(a.edits, edit{at, at + 2, fmt.Sprintf(" %s mutantOne[%s](%d)", operator, a.typeOf(s.X), n), 0})
	}
}

// isNumber reports whether an expression is a number of a type that is known here.
func (a *alterer) isNumber(e ast.Expr) bool {
	t := a.p.info.Types[e].Type
	if _, open := t.(*types.TypeParam); t == nil || open {
		return false
	}
	basic, ok := t.Underlying().(*types.Basic)
	return ok && basic.Info()&(types.IsInteger|types.IsFloat) != 0
}

// typeOf is how the type of an expression is written in the file.
func (a *alterer) typeOf(e ast.Expr) string {
	return types.TypeString(types.Default(a.p.info.Types[e].Type), func(of *types.Package) string {
		if of == a.p.pkg {
			return ""
		}
		for _, i := range a.p.trees[a.file].Imports {
			if path, _ := strconv.Unquote(i.Path.Value); path == of.Path() && i.Name != nil {
				return i.Name.Name
			}
		}
		return of.Name()
	})
}
