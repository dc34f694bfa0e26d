package engine

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"testing"
)

// What decides about packets asks the flow, which answers for sets too: it neither looks at
// the packet itself nor lets what is only for events decide.
func TestStepsAskTheFlow(t *testing.T) {
	files, err := filepath.Glob("step*.go")
	if err != nil || len(files) != 9 {
		t.Fatal(files, err)
	}
	files = append(files, "gateway.go", "walk.go", "segment.go", "internet.go", "host.go", "back.go", "memory.go")
	for _, file := range files {
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		var within func(n ast.Node, deciding bool)
		within = func(n ast.Node, deciding bool) {
			ast.Inspect(n, func(m ast.Node) bool {
				switch m := m.(type) {
				case *ast.IfStmt:
					within(m.Cond, true)
				case *ast.SwitchStmt:
					if m.Tag != nil {
						within(m.Tag, true)
					}
				case *ast.CaseClause:
					for _, e := range m.List {
						within(e, true)
					}
				case *ast.ForStmt:
					if m.Cond != nil {
						within(m.Cond, true)
					}
				case *ast.SelectorExpr:
					x, isSelector := m.X.(*ast.SelectorExpr)
					ofFlow := isSelector && x.Sel.Name == "flow" || isName(m.X, "f")
					if ofFlow && slices.Contains([]string{"packet", "region", "terms"}, m.Sel.Name) || ofFlow && deciding && m.Sel.Name == "now" {
						t.Errorf("%s: .%s of a flow decides, or is looked at", set.Position(m.Pos()), m.Sel.Name)
					}
				}
				return true
			})
		}
		within(parsed, false)
	}
}

func isName(e ast.Expr, name string) bool {
	id, ok := e.(*ast.Ident)
	return ok && id.Name == name
}
