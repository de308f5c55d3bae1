package e2e

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// printed is a command line as a page or a help text prints it.
type printed struct{ where, line string }

// pages are those with command lines, in the order in which a reader meets them.
var pages = []string{"README.md", "docs/install.md", "docs/using.md", "docs/operate.md", "docs/troubleshoot.md", "docs/guides/definitions.md", "docs/guides/write-a-profile.md", "docs/api.md"}

var (
	block = regexp.MustCompile(`^(?:    |\t)(?:bin/)?beacon ([a-z].*)$`)
	span  = regexp.MustCompile("`(?:bin/)?beacon ([a-z][^`]*)`")
)

// blocks are the lines that a reader copies, spans those within a sentence, where names in capitals stand for something.
func blocks(t *testing.T) (blocks, spans []printed) {
	for _, page := range pages {
		text, err := os.ReadFile(filepath.Join("..", page))
		require.NoError(t, err)
		for line := range strings.Lines(string(text)) {
			line = strings.TrimRight(line, "\n")
			if m := block.FindStringSubmatch(line); m != nil {
				m[1], _, _ = strings.Cut(m[1], "  #")
				m[1], _, _ = strings.Cut(m[1], " # ")
				blocks = append(blocks, printed{page, strings.TrimSpace(m[1])})
			}
			for _, m := range span.FindAllStringSubmatch(line, -1) {
				spans = append(spans, printed{page, m[1]})
			}
		}
	}
	return blocks, spans
}

// examples are the lines of the help texts, below "Examples:".
func examples(t *testing.T, path ...string) (list []printed) {
	out, err := exec.Command(program, append(slices.Clone(path), "--help")...).Output()
	require.NoError(t, err, "%v", path)
	part := ""
	for line := range strings.Lines(string(out)) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasSuffix(line, ":") && !strings.HasPrefix(line, " "):
			part = line
		case strings.TrimSpace(line) == "" && part != "Available Commands:":
			part = ""
		case part == "Examples:" && strings.HasPrefix(line, "  beacon "):
			list = append(list, printed{"help of " + strings.Join(path, " "), strings.TrimPrefix(line, "  beacon ")})
		case part == "Available Commands:" && strings.HasPrefix(line, "  "):
			if name := strings.Fields(line)[0]; name != "help" && name != "completion" {
				list = append(list, examples(t, append(slices.Clone(path), name)...)...)
			}
		}
	}
	return list
}

// Each command line that the README, the documentation or a help text prints names a command that there is, with options that it has.
func TestPrintedCommandsExist(t *testing.T) {
	t.Parallel()
	list, spans := blocks(t)
	list = append(append(list, spans...), examples(t)...)
	helps := map[string]string{}
	help := func(path []string) string {
		key := strings.Join(path, " ")
		if _, known := helps[key]; !known {
			out, err := exec.Command(program, append(slices.Clone(path), "--help")...).CombinedOutput()
			if err != nil {
				out = nil
			}
			helps[key] = string(out)
		}
		return helps[key]
	}
	checked := 0
	for _, p := range list {
		words := strings.Fields(strings.NewReplacer(`\|`, "|", "…", "", "[", " ", "]", " ").Replace(p.line))
		var paths [][]string
		for _, name := range strings.Split(words[0], "|") {
			paths = append(paths, []string{name})
		}
		if len(words) > 1 && strings.Contains(help([]string{words[0]}), "Available Commands:") {
			paths = nil
			for _, below := range strings.Split(words[1], "|") {
				if regexp.MustCompile(`^[a-z-]+$`).MatchString(below) && strings.Contains(help([]string{words[0]}), "\n  "+below+" ") {
					paths = append(paths, []string{words[0], below})
				}
			}
			if len(words) > 2 && len(paths) == 1 && strings.Contains(help(paths[0]), "Available Commands:") {
				paths = [][]string{append(paths[0], words[2])}
			}
			if len(paths) == 0 {
				paths = [][]string{{words[0]}}
			}
		}
		for _, path := range paths {
			checked++
			text := help(path)
			assert.NotEmpty(t, text, "%s: beacon %s: there is no such command", p.where, p.line)
			for _, w := range words {
				if flag, ok := strings.CutPrefix(w, "--"); ok && flag != "" {
					flag, _, _ = strings.Cut(flag, "=")
					flag = strings.Trim(flag, ".,;:)'")
					assert.Contains(t, text, "--"+flag, "%s: beacon %s: no option --%s", p.where, p.line, flag)
				}
			}
		}
	}
	t.Logf("%d command lines of pages, sentences and help texts", checked)
	assert.Greater(t, checked, 150)
}

// notRun are lines that run for ever, need a machine of their own, or are run by other tests.
var notRun = map[string]string{
	"handover rehearse":      "it starts a world of its own: TestRehearse",
	"serve":                  "runs for ever; every test of this package starts one",
	"practice":               "runs for ever; every stage has one",
	"demo":                   "starts what this test runs on",
	"watch":                  "runs until a domain has settled; in the tour",
	"host report":            "runs for ever; in the tour",
	"provider verify":        "makes fifty checks; provider/conform runs them",
	"registrar verify":       "changes a domain for a while; registrar/conform runs them",
	"sign-in --first":        "there is a user; a test of the API takes a link",
	"recover-user":           "ends the session that the lines are run in; service tests have it",
	"restore":                "needs an empty database; TestRestored has one",
	"key":                    "needs a service that has ended; service tests have it",
	"sync --follow NUMBER":   "a sync that runs",
	"sync --cancel NUMBER":   "a sync that runs",
	"check --direct":         "asks the root servers of the internet",
	"provider try":           "needs the provider that the guide describes",
	"provider profile":       "needs the profile that the guide describes",
	"provider add dunlin":    "needs the provider that the guide describes",
	"completion":             "prints a script",
	"provider rotate":        "needs a second credential; in the console's tests",
	"check --direct --brief": "asks the root servers of the internet",
}

func skipped(line string) bool {
	for begin := range notRun {
		if line == begin || strings.HasPrefix(line, begin+" ") || strings.HasPrefix(line, begin) && strings.Contains(begin, " ") {
			return true
		}
	}
	return false
}

// ends are lines whose exit code says more than that all went well.
var ends = map[string][]int{
	"check": {0, 1, 2, 3}, "diff": {0, 1}, "delegate saltmarsh-ferries.example --dry-run": {0, 1}, "drift": {0, 1}, "zone check": {0, 1}, "zone compare": {0, 1},
	"handover": {0, 1}, "handover show": {0, 1, 2}, "explain": {0}, "zone retire": {0, 1}, "zone delete": {0, 1}, "provider remove": {0, 1}, "host show": {0, 1, 2},
	"delegate saltmarsh-ferries.example": {0, 1}, "provider add heron-main": {1}, "provider add moor": {1}, "host add": {0, 1, 64}, "host set": {0, 1}, "location": {0, 1}, "tsig-key": {0, 1}, "registrar add gannet-main": {1}, "channel test": {1}, "operation undo": {0, 1}, "hold release": {0, 1},
	"clock skip": {0, 1}, "search": {0, 1}, "sync --all": {0, 1}, "record fix": {0, 1}, "draft": {0, 1}, "act": {0, 1}, "user add": {0, 1}, "user grant": {0, 1}, "user remove": {0, 1}, "token add": {0, 1}, "token renew": {0, 1}, "token revoke": {0, 1},
}

// wide are lines that print a document, or paths of any length.
var wide = regexp.MustCompile(`^(backup|zone (convert|generate|export)|.*--(output|schema))`)

// Every command line in a block of the README or the documentation, and every example of a help text, is run on the demo as it is printed: none
// is refused as misuse, and those that can only go well do.
func TestPrintedCommandsRun(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, ""))
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "demo"), os.DirFS("../demo")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "zones"), 0o700))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "FOLDER"), 0o700))
	for name, text := range map[string]string{
		"key": "heron-practice-key\n", "new-key": "heron-practice-key\n", "names.txt": "saltmarsh-ferries.example\n", "records.txt": "cam A 192.0.2.9\n", "page.txt": "cam A 192.0.2.9\n",
		"zones/a.beacon.yaml": "zones:\n  a.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n", "old.zone": "$TTL 300\n@ A 192.0.2.1\n", "new.zone": "$TTL 300\n@ A 192.0.2.2\n",
		"pier-cam.token": "abh_none\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	require.NoError(t, s.Host(context.Background(), "tides.example", []byte("@ 3600 A 192.0.2.40\nwww 3600 A 192.0.2.40\n")))
	run := func(line string) (int, string) {
		line = strings.NewReplacer("https://api.heron.example", s.Site("heron"), "https://api.gannet.example", s.Site("gannet"), "/srv/backup/", dir+"/", "--settings beacon.yaml", "--settings "+s.Dir+"/beacon.yaml",
			"--from heron-main", "--from plover-old", "--wait 1m", "--wait 1s", "var/demo/password", s.Dir+"/password").Replace(line)
		if strings.HasPrefix(line, "backup") && !strings.Contains(line, "--settings") {
			line += " --settings " + s.Dir + "/beacon.yaml"
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", "beacon "+line)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "BEACON_ADDRESS="+s.Address(), "BEACON_SESSIONS="+filepath.Join(dir, "sessions.json"), "BEACON_PASSWORD="+s.Password)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		_ = cmd.Run()
		return cmd.ProcessState.ExitCode(), out.String()
	}
	must := func(line string) {
		code, out := run(line)
		require.Zero(t, code, "beacon %s:\n%s", line, out)
	}
	must("sign-in --as admin")
	must("apply demo/saltmarsh-ferries.beacon.yaml --yes")
	must("zone detach saltmarsh-ferries.example --yes")
	must("apply demo/saltmarsh-ferries.beacon.yaml --yes --once")
	list, _ := blocks(t)
	list = append(examples(t), list...) // the last pages remove things
	ran := 0
	for _, p := range list {
		if skipped(p.line) {
			continue
		}
		line, want := p.line, []int{0}
		if words := strings.Fields(line); slices.Contains([]string{"apply", "sync", "delegate", "handover", "draft", "drift", "hold", "operation", "zone", "record", "provider", "host", "act", "user"}, words[0]) {
			path := words[:1]
			if len(words) > 1 && regexp.MustCompile(`^[a-z]+$`).MatchString(words[1]) {
				path = words[:2]
			}
			help, _ := exec.Command(program, append(slices.Clone(path), "--help")...).Output()
			if strings.Contains(string(help), "--yes ") && !strings.Contains(line, "--yes") {
				line += " --yes" // nobody is there to be asked
			}
		}
		longest := ""
		for begin, codes := range ends {
			if strings.HasPrefix(p.line, begin) && len(begin) > len(longest) {
				longest, want = begin, codes
			}
		}
		code, out := run(line)
		for again := 0; again < 20 && strings.Contains(out, "The database is away"); again++ { // a machine that stalls, which a user would wait out too
			time.Sleep(500 * time.Millisecond)
			code, out = run(line)
		}
		ran++
		if strings.HasPrefix(line, "apply ") {
			_, _ = run("zone detach saltmarsh-ferries.example --yes") // so that it can be changed by the lines below
		}
		assert.Contains(t, want, code, "%s: beacon %s\n%s", p.where, line, out)
		assert.NotContains(t, out, "panic", p.line)
		if wide.MatchString(line) {
			continue
		}
		for shown := range strings.Lines(out) {
			if !assert.LessOrEqual(t, len([]rune(strings.TrimRight(shown, "\n"))), 100, "%s: beacon %s prints a line of over 100 columns: %s", p.where, line, shown) {
				break
			}
		}
	}
	t.Logf("%d command lines run", ran)
	assert.Greater(t, ran, 60)
}
