// Package beacon holds no code: this test keeps the house as docs/architecture.md says it is built.
package beacon

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

// floors are the packages from the ground up; one imports only what stands on floors below its own.
var floors = []string{"core", "folder", "looking", "clock", "reach", "reporter", "outcall", "checklist", "resolve", "primary", "provider", "registrar", "profile", "visit", "tell", "store", "wire", "service", "console", "api", "cli", "practice", "demo", "cmd"}

// beside lists floors that may not be used although they stand below.
var beside = map[string][]string{
	"provider": {"resolve", "clock"}, "registrar": {"provider", "resolve", "clock"},
	"store":    {"provider", "registrar", "profile", "resolve", "outcall"},
	"api":      {"resolve", "provider", "profile", "outcall", "reach"},
	"wire":     {"clock", "reach", "outcall", "resolve", "primary", "provider", "registrar", "profile", "visit", "tell", "store"},
	"cli":      {"store", "service", "registrar"},
	"practice": {"core", "clock", "reach", "outcall", "resolve", "primary", "provider", "registrar", "profile", "visit", "tell", "store", "wire", "service", "api", "cli"},
	"console":  {"core", "clock", "reach", "outcall", "resolve", "primary", "provider", "registrar", "profile", "visit", "tell", "store", "wire", "service"},
	"demo":     {"wire", "service", "api", "cli", "practice", "resolve", "provider", "registrar"},
}

// rooms are the packages below service, from the top down; one imports only those that stand below it.
var rooms = []string{"overview", "handover", "freezes", "delegate", "gather", "later", "check", "updates", "hosts", "aliases", "apply", "secondaries", "sync", "served", "zones", "accounts", "notify", "users", "acts", "logbook", "jobs"}

// owners assigns each file of store to the room whose rows it holds. Others ask that room.
var owners = map[string]string{
	"acts.go": "acts", "hold.go": "acts", "accounts.go": "accounts", "seal.go": "accounts", "verifications.go": "accounts",
	"handovers.go": "handover", "later.go": "later", "gatherings.go": "gather",
	"aliases.go": "aliases", "hosts.go": "hosts", "locations.go": "hosts", "reported.go": "hosts",
	"domains.go": "check", "brief.go": "check", "briefpages.go": "check",
	"drafts.go": "zones", "children.go": "zones", "kits.go": "zones", "layers.go": "zones", "operations.go": "zones", "placements.go": "zones", "revisions.go": "zones", "contents.go": "zones", "rows.go": "zones", "search.go": "zones", "zones.go": "zones",
	"tsigkeys.go": "accounts", "updates.go": "hosts", "jobs.go": "jobs", "prune.go": "jobs", "logbook.go": "logbook", "sequence.go": "logbook", "users.go": "users", "tokens.go": "users", "requestkeys.go": "users",
	"placed.go": "sync", "others.go": "sync", "troubles.go": "accounts", "paces.go": "accounts", "watched.go": "apply", "pages.go": "overview", "today.go": "overview", "syncs.go": "sync", "published.go": "secondaries", "tellings.go": "notify",
}

// sources returns every Go file of the product that is no test.
func sources(t *testing.T) map[string]*ast.File {
	t.Helper()
	files := map[string]*ast.File{}
	err := filepath.WalkDir(".", func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (at == "console/node_modules" || at == "var" || strings.HasPrefix(entry.Name(), ".") && at != ".") {
			return fs.SkipDir
		}
		if strings.HasSuffix(at, ".go") && !strings.HasSuffix(at, "_test.go") {
			files[at], err = parser.ParseFile(token.NewFileSet(), at, nil, 0)
		}
		return err
	})
	require.NoError(t, err)
	require.NotEmpty(t, files)
	return files
}

func TestImportsGoDownwards(t *testing.T) {
	for name, file := range sources(t) {
		floor, _, _ := strings.Cut(name, "/")
		if strings.Contains(name, "test/") { // packages that serve tests only
			continue
		}
		require.Contains(t, floors, floor, name)
		for _, spec := range file.Imports {
			imported, _ := strconv.Unquote(spec.Path.Value)
			if floor == "core" {
				assert.NotContains(t, []string{"net", "net/http", "os", "context", "sync", "database/sql", "io/fs"}, imported, "%s: the core does no I/O", name)
			}
			below, ours := strings.CutPrefix(imported, "beacon/")
			if !ours {
				continue
			}
			below, _, _ = strings.Cut(below, "/")
			if below == floor {
				continue
			}
			assert.Less(t, slices.Index(floors, below), slices.Index(floors, floor), "%s imports %s", name, imported)
			assert.NotContains(t, beside[floor], below, "%s imports %s", name, imported)
		}
	}
}

func TestRoomsImportDownwards(t *testing.T) {
	lines := map[string]int{}
	for name, file := range sources(t) {
		inside, ok := strings.CutPrefix(name, "service/")
		room, rest, below := strings.Cut(inside, "/")
		if !ok || !below {
			continue
		}
		require.Contains(t, rooms, room, name)
		require.NotContains(t, rest, "/", "a room has no rooms of its own: %s", name)
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		lines[room] += strings.Count(string(text), "\n")
		for _, spec := range file.Imports {
			imported, _ := strconv.Unquote(spec.Path.Value)
			if other, ok := strings.CutPrefix(imported, "beacon/service/"); ok {
				assert.Greater(t, slices.Index(rooms, other), slices.Index(rooms, room), "%s imports %s", name, imported)
			}
			assert.NotEqual(t, "beacon/service", imported, name)
		}
	}
	for _, room := range rooms {
		assert.Positive(t, lines[room], room)
		assert.LessOrEqual(t, lines[room], 2500, "%s is too large to read in an evening", room)
	}
}

// A room changes and reads its own rows only. The overview reads those of all.
func TestRowsHaveOneRoom(t *testing.T) {
	loaded, err := packages.Load(&packages.Config{Mode: packages.LoadSyntax | packages.NeedDeps | packages.NeedImports}, "beacon/service/...", "beacon/store")
	require.NoError(t, err)
	calls := 0
	for _, p := range loaded {
		require.Empty(t, p.Errors, p.PkgPath)
		room := strings.TrimPrefix(p.PkgPath, "beacon/service/")
		if p.PkgPath == "beacon/store" {
			for _, file := range p.GoFiles {
				name := filepath.Base(file)
				assert.True(t, owners[name] != "" || slices.Contains([]string{"store.go", "migrate.go", "clock.go", "sweep.go", "away.go", "backup.go", "scope.go"}, name), "store/%s belongs to no room", name)
			}
			continue
		}
		for _, file := range p.Syntax {
			ast.Inspect(file, func(n ast.Node) bool {
				id, ok := n.(*ast.Ident)
				if !ok {
					return true
				}
				method, ok := p.TypesInfo.Uses[id].(*types.Func)
				if !ok || method.Pkg() == nil || method.Pkg().Path() != "beacon/store" || method.Signature().Recv() == nil {
					return true
				}
				at := p.Fset.Position(method.Pos())
				owner := owners[filepath.Base(at.Filename)]
				if !strings.HasSuffix(method.Signature().Recv().Type().String(), "store.Tx") || owner == "" {
					return true
				}
				calls++
				if room != "overview" {
					assert.Equal(t, owner, room, "%s: %s is for %s to call", p.Fset.Position(id.Pos()), method.Name(), owner)
				}
				return true
			})
		}
	}
	assert.Greater(t, calls, 150)
}

// The core decides from its arguments alone: it starts no goroutine and reads no clock.
func TestCoreIsPure(t *testing.T) {
	for name, file := range sources(t) {
		if !strings.HasPrefix(name, "core/") {
			continue
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", name)
			case *ast.SelectorExpr:
				if x, ok := n.X.(*ast.Ident); ok && x.Name == "time" {
					assert.NotContains(t, []string{"Now", "Since", "Until", "Sleep", "After", "NewTimer", "NewTicker"}, n.Sel.Name, name)
				}
			}
			return true
		})
	}
}

// Only reach opens connections and sockets to the outside. The practice world is the outside.
func TestOneDoor(t *testing.T) {
	doors := map[string][]string{"net": {"Dial", "DialTimeout", "DialUDP", "DialTCP", "DialIP", "ListenUDP", "ListenPacket", "Dialer"},
		"http": {"DefaultClient", "DefaultTransport", "Get", "Post", "PostForm", "Head"}, "dns": {"Client", "Exchange", "Dial", "DialTimeout"}}
	for name, file := range sources(t) {
		if dir := path.Dir(name); dir == "reach" || strings.HasPrefix(dir, "practice") || strings.HasSuffix(dir, "test") { // what serves tests only is the outside too
			continue
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := sel.X.(*ast.Ident); ok {
					assert.NotContains(t, doors[x.Name], sel.Sel.Name, "%s opens a way past reach", name)
				}
			}
			return true
		})
	}
}

// Every code of a finding that the source gives is in docs/findings.md, with what it means and what to do.
func TestEveryCodeIsDocumented(t *testing.T) {
	guide, err := os.ReadFile("docs/findings.md")
	require.NoError(t, err)
	code := regexp.MustCompile("^[a-z]+(-[a-z]+)+$")
	severities := []string{"Error", "Warning", "Notice"}
	found := 0
	check := func(e ast.Expr) {
		if lit, ok := e.(*ast.BasicLit); ok && lit.Kind == token.STRING {
			if text, _ := strconv.Unquote(lit.Value); code.MatchString(text) {
				found++
				assert.True(t, strings.Contains(string(guide), "`"+text+"` | "), "docs/findings.md has no entry for %s", text) // the guide is long
			}
		}
	}
	isSeverity := func(e ast.Expr) bool {
		sel, ok := e.(*ast.SelectorExpr)
		return ok && slices.Contains(severities, sel.Sel.Name)
	}
	for name, file := range sources(t) {
		if !strings.HasPrefix(name, "core/") && !strings.HasPrefix(name, "service/") {
			continue
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.KeyValueExpr: // Code: "x"
				if key, ok := n.Key.(*ast.Ident); ok && key.Name == "Code" {
					check(n.Value)
				}
			case *ast.CallExpr: // say("x", finding.Error, …)
				for i := 1; i < len(n.Args); i++ {
					if isSeverity(n.Args[i]) {
						check(n.Args[i-1])
					}
				}
			case *ast.CompositeLit: // {"x", finding.Error, …}
				for i := 1; i < len(n.Elts); i++ {
					if isSeverity(n.Elts[i]) {
						check(n.Elts[i-1])
					}
				}
			}
			return true
		})
	}
	assert.Greater(t, found, 90)
}

// The architecture page names every package of the core and every room, and no file that is not there.
func TestArchitectureIsTrue(t *testing.T) {
	text, err := os.ReadFile("docs/architecture.md")
	require.NoError(t, err)
	page, named := string(text), 0
	for _, m := range regexp.MustCompile("`([a-z]+/[A-Za-z0-9_/.-]+\\.(?:go|tsx?|css|sql))`").FindAllStringSubmatch(page, -1) {
		named++
		if _, err := os.Stat(m[1]); err != nil {
			_, err = os.Stat(filepath.Join("console/src", m[1]))
			assert.NoError(t, err)
		}
	}
	assert.Greater(t, named, 40)
	for _, of := range []string{"core", "service"} {
		folders, err := os.ReadDir(of)
		require.NoError(t, err)
		for _, f := range folders {
			name := f.Name()
			if of == "core" {
				name = "core/" + name
			}
			if f.IsDir() && f.Name() != "testdata" {
				assert.True(t, strings.Contains(page, "`"+name+"`"), "the page does not name %s", name)
			}
		}
	}
}

// Each test that the security page names is there, in the package that it names.
func TestSecurityPageNamesTests(t *testing.T) {
	text, err := os.ReadFile("docs/security.md")
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:Test|Fuzz)[A-Za-z]+)` \\(([a-z/0-9]+)\\)").FindAllStringSubmatch(string(text), -1)
	assert.Greater(t, len(named), 10)
	for _, m := range named {
		files, err := filepath.Glob(filepath.Join(m[2], "*_test.go"))
		require.NoError(t, err)
		assert.True(t, slices.ContainsFunc(files, func(file string) bool {
			source, err := os.ReadFile(file)
			return err == nil && strings.Contains(string(source), "func "+m[1]+"(")
		}), "there is no %s in %s", m[1], m[2])
	}
}
