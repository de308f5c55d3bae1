package rules

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/finding"
)

// The guide to findings is printed from the rules.
func TestFindingsGuide(t *testing.T) {
	const file = "../../docs/findings.md"
	want := Page()
	if os.Getenv("BEACON_UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(want), 0o644))
	}
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, want == string(got), "docs/findings.md is not as the rules have it; run: BEACON_UPDATE=1 go test ./core/rules -run Guide") // the texts are long
}

// sources reads all code of the module except its tests.
func sources(t *testing.T) (files []*ast.File, words map[string]string) {
	words = map[string]string{}
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == "var" || d.Name() == ".git") {
			return cmpOr(err, fs.SkipDir)
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		files = append(files, f)
		return err
	}))
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			if v, ok := n.(*ast.ValueSpec); ok {
				for i, name := range v.Names {
					if i < len(v.Values) {
						if text, ok := literal(v.Values[i]); ok {
							words[name.Name] = text
						}
					}
				}
			}
			return true
		})
	}
	return files, words
}

func cmpOr(err, otherwise error) error {
	if err != nil {
		return err
	}
	return otherwise
}

func literal(e ast.Expr) (string, bool) {
	l, ok := e.(*ast.BasicLit)
	if !ok || l.Kind != token.STRING {
		return "", false
	}
	text, err := strconv.Unquote(l.Value)
	return text, err == nil
}

// Every severity with which a finding is raised anywhere is one that the guide has for its code; and every guard and gate is in it as one.
func TestGuideHasTheSeveritiesOfTheCode(t *testing.T) {
	known := map[string]string{}
	for _, k := range Guide() {
		known[k.Code] += " " + k.Severity
		assert.NotEmpty(t, k.Severity, k.Code)
	}
	files, words := sources(t)
	raised := 0
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			code, severity := raises(n, words)
			if severity != "" && known[code] != "" {
				raised++
				assert.Contains(t, known[code], severity, code)
			}
			return true
		})
	}
	assert.Greater(t, raised, 200)
	for name, code := range words {
		if (strings.HasPrefix(name, "Guard") || strings.HasPrefix(name, "Gate")) && known[code] != "" {
			blocks := false
			for _, k := range Explain(code) {
				blocks = blocks || k.Guard != ""
			}
			assert.True(t, blocks, "%s blocks something, and the guide does not say so", code)
		}
	}
	assert.Empty(t, Explain("no-such-code"))
}

// raises returns code and severity where a node makes a finding: a call or a literal that has both among its parts.
func raises(n ast.Node, words map[string]string) (code, severity string) {
	var parts []ast.Expr
	switch v := n.(type) {
	case *ast.CallExpr:
		parts = v.Args
	case *ast.CompositeLit:
		for _, e := range v.Elts {
			if kv, ok := e.(*ast.KeyValueExpr); ok {
				e = kv.Value
			}
			parts = append(parts, e)
		}
	}
	for _, part := range parts {
		name, from := "", ""
		switch v := part.(type) {
		case *ast.Ident:
			name = v.Name
		case *ast.SelectorExpr:
			if x, ok := v.X.(*ast.Ident); ok {
				name, from = v.Sel.Name, x.Name
			}
		}
		if from == "finding" && (name == "Error" || name == "Warning" || name == "Notice") {
			severity = strings.ToLower(name)
		} else if text, ok := literal(part); ok && code == "" {
			code = text
		} else if code == "" {
			code = words[name]
		}
	}
	return code, severity
}

// Known codes are listed once each by what they are about.
func TestCodesAreListedOnce(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Guide() {
		key := k.About + " " + k.Code
		assert.False(t, seen[key], key)
		seen[key] = true
	}
	assert.Greater(t, len(seen), len(finding.Codes))
}
