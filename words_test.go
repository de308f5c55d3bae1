package beacon

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// banned is a line of scripts/words.list.
type banned struct {
	text    bool // in what people read only
	word    *regexp.Regexp
	instead string
}

func readWords(t *testing.T) (list []banned) {
	t.Helper()
	text, err := os.ReadFile("scripts/words.list")
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		scope, rest, _ := strings.Cut(line, " | ")
		cut := strings.LastIndex(rest, " | ")
		require.Positive(t, cut, line)
		list = append(list, banned{scope == "text", regexp.MustCompile(rest[:cut]), rest[cut+3:]})
	}
	return list
}

// exempt are files that hold former words: to read what is stored or written with them, or to keep them out.
var exempt = regexp.MustCompile(`^(store/migrations/|scripts/words|words_test\.go|service/testdata/|docs/changes\.md|go\.sum|console/package-lock\.json|console/src/api/(schema\.d\.ts|openapi\.json)$)|/testdata/|(^|/)former\.go$|\.(png|svg)$`)

// Words that were given up stay out, in identifiers and in what people read.
func TestWords(t *testing.T) {
	words := readWords(t)
	out, err := exec.Command("git", "ls-files").Output()
	require.NoError(t, err)
	for file := range strings.Lines(string(out)) {
		file = strings.TrimSpace(file)
		if exempt.MatchString(file) {
			continue
		}
		text, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		for i, line := range strings.Split(string(text), "\n") {
			for _, w := range words {
				if !w.text && w.word.MatchString(line) {
					assert.Fail(t, "a word that was given up", "%s:%d: %q; say: %s\n%s", file, i+1, w.word.FindString(line), w.instead, strings.TrimSpace(line))
				}
			}
		}
		for line, shown := range readByPeople(t, file, string(text)) {
			for _, w := range words {
				if w.text && w.word.MatchString(shown) {
					assert.Fail(t, "a word that people should not read", "%s:%d: %q; say: %s\n%s", file, line, w.word.FindString(shown), w.instead, strings.TrimSpace(shown))
				}
			}
		}
	}
}

var codeComment = regexp.MustCompile(`^\s*(//|/?\*|import )|\s// .*$`)

// readByPeople returns the texts of a file that people read, by line.
func readByPeople(t *testing.T, file, text string) map[int]string {
	t.Helper()
	shown := map[int]string{}
	switch {
	case strings.HasSuffix(file, "_test.go"), strings.Contains(file, ".test."), strings.Contains(file, ".measure."), strings.HasPrefix(file, "practice/"):
	case strings.HasSuffix(file, ".go"):
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, text, 0)
		require.NoError(t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING && strings.Contains(l.Value, " ") {
				shown[set.Position(l.Pos()).Line] += l.Value
			}
			return true
		})
	case strings.HasSuffix(file, ".tsx"), strings.HasSuffix(file, ".md"), strings.HasSuffix(file, ".ts"), file == "api/fields.json":
		for i, line := range strings.Split(text, "\n") {
			if strings.HasSuffix(file, ".md") || strings.HasSuffix(file, ".json") || !codeComment.MatchString(line) {
				shown[i+1] = line
			}
		}
	}
	return shown
}
