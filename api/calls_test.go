package api

import (
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// typeName returns a type as the calls write it: qualified by its package's name; "wire.None" for none.
func typeName(v any) string {
	if v == nil {
		return "wire.None"
	}
	return regexp.MustCompile(`beacon/(?:core/)?`).ReplaceAllString(reflect.TypeOf(v).String(), "")
}

// written returns the source of a type argument, qualified.
func written(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		if ast.IsExported(e.Name) {
			return "wire." + e.Name
		}
		return e.Name
	case *ast.SelectorExpr:
		return e.X.(*ast.Ident).Name + "." + e.Sel.Name
	case *ast.IndexExpr:
		return written(e.X) + "[" + written(e.Index) + "]"
	}
	return "?"
}

// Each call that clients can make is a route here, with the same request and the same answer.
func TestCallsAreRoutes(t *testing.T) {
	file, err := parser.ParseFile(token.NewFileSet(), "../wire/calls.go", nil, 0)
	require.NoError(t, err)
	calls := 0
	ast.Inspect(file, func(n ast.Node) bool {
		lit, ok := n.(*ast.CompositeLit)
		if !ok {
			return true
		}
		var in, out string
		switch typ := lit.Type.(type) {
		case *ast.IndexListExpr: // Call[In, Out]
			in, out = written(typ.Indices[0]), written(typ.Indices[1])
		case *ast.IndexExpr: // List[T]
			in, out = "wire.None", "wire.Page["+written(typ.Index)+"]"
		default:
			return true
		}
		var fields [2]string
		for i := range fields {
			fields[i], err = strconv.Unquote(lit.Elts[i].(*ast.KeyValueExpr).Value.(*ast.BasicLit).Value)
			require.NoError(t, err)
		}
		calls++
		name, found := strings.Join(fields[:], " "), false
		for _, r := range routes() {
			if r.method == fields[0] && r.path == fields[1] {
				found = true
				assert.Equal(t, typeName(r.in), in, "what %s takes", name)
				assert.Equal(t, typeName(r.out), out, "what %s answers", name)
			}
		}
		assert.True(t, found, "%s is no route", name)
		return true
	})
	assert.Greater(t, calls, 50)
}
