package engine

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"
)

// Nothing is decided by the copy of a packet that a flow gives to be written down: what decides asks the flow, which answers for
// sets too. The packet itself can't be reached outside of core/flow.
func TestStepsAskTheFlow(t *testing.T) {
	var files []string
	for _, pattern := range []string{"*.go", "../walk/*.go", "../explore/*.go"} {
		found, err := filepath.Glob(pattern)
		if err != nil || len(found) < 5 {
			t.Fatal(pattern, found, err)
		}
		files = append(files, found...)
	}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		deciding := func(n ast.Node) {
			if n == nil {
				return
			}
			ast.Inspect(n, func(m ast.Node) bool {
				if s, ok := m.(*ast.SelectorExpr); ok && s.Sel.Name == "Now" {
					t.Errorf("%s: what is written down of a flow decides", set.Position(m.Pos()))
				}
				return true
			})
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.IfStmt:
				deciding(n.Cond)
			case *ast.SwitchStmt:
				if n.Tag != nil {
					deciding(n.Tag)
				}
			case *ast.CaseClause:
				for _, e := range n.List {
					deciding(e)
				}
			case *ast.ForStmt:
				if n.Cond != nil {
					deciding(n.Cond)
				}
			}
			return true
		})
	}
}
