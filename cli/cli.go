// Package cli holds the commands of beacon that talk to a running service through its API, and those that need none.
// Commands are nouns, then verbs; each file is a noun. What they print is decided here, what they do is not.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"beacon/cli/screen"
)

// Exit codes. Checks use all of them, waiting for a host or a handover ExitSettling too; other commands ExitFine, ExitFailed and ExitMisuse.
const (
	ExitFine     = 0
	ExitFailed   = 1 // also: needs action, ready to move, not delegated
	ExitSettling = 2
	ExitUnknown  = 3 // the check or comparison itself failed
	ExitMisuse   = 64
)

// exit ends a command with a code; message may be empty where everything has been said.
type exit struct {
	code    int
	message string
}

func (e exit) Error() string { return e.message }

func misuse(format string, args ...any) error {
	for i, arg := range args {
		if err, ok := arg.(error); ok {
			args[i] = plainly(err)
		}
	}
	return exit{ExitMisuse, fmt.Sprintf(format, args...)}
}

// plainly returns an error in words for people: what concerns a file names it and the reason.
func plainly(err error) string {
	var at *fs.PathError
	if !errors.As(err, &at) {
		return err.Error()
	}
	reason := at.Err.Error()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		reason = "file not found"
	case errors.Is(err, fs.ErrPermission):
		reason = "permission denied"
	}
	return fmt.Sprintf("cannot %s %s: %s. Nothing changed", cmp.Or(map[string]string{"open": "read", "stat": "read"}[at.Op], at.Op), at.Path, reason)
}

// app is what all commands share.
type app struct {
	address string // of the service
	plain   bool   // passwords and tokens may be sent to another machine without TLS
	output  string // table, json or yaml
	in      io.Reader
	out     io.Writer
	err     io.Writer
	// evaluator is the command that starts a worker for the expressions of profiles.
	evaluator []string
	hinted    bool            // how codes are explained has been said
	shown     map[string]bool // findings that a sync need not repeat
}

// New returns the root command with all commands of this package below it.
func New(in io.Reader, out, errOut io.Writer) *cobra.Command {
	a := &app{in: in, evaluator: self()}
	a.out, a.err = screen.New(out, func() bool { return a.output == "json" }), screen.New(errOut, nil)
	return a.root()
}

// appKey is under which the root command keeps the app in its context.
type appKey struct{}

// envOutput annotates commands that also print lines for a shell: --output env.
const envOutput = "env-output"

// root makes the root command.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "beacon",
		Short:         "Move domains between DNS providers, sync their records, and see when every cache has the change",
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if a.output == "env" && c.Annotations[envOutput] != "" {
				return nil
			}
			if a.output != "table" && a.output != "json" && a.output != "yaml" {
				return misuse("--output is table, json or yaml")
			}
			return nil
		},
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetContext(context.WithValue(context.Background(), appKey{}, a))
	root.Version = versionText()
	root.SetVersionTemplate("beacon {{.Version}}\n")
	root.PersistentFlags().StringVar(&a.address, "address", envOr("BEACON_ADDRESS", "http://127.0.0.1:8053"), "address of the service (BEACON_ADDRESS)")
	root.PersistentFlags().BoolVar(&a.plain, "plain-text", os.Getenv("BEACON_PLAIN_TEXT") == "1", "send passwords and tokens to another machine without TLS (BEACON_PLAIN_TEXT=1)")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	root.AddCommand(a.signInCommand(), a.signOutCommand(), a.userCommand(), a.tokenCommand(), a.todayCommand(), a.domainsCommand(), a.zoneCommand(), a.recordCommand(), a.draftCommand(), a.searchCommand(), a.operationCommand(), a.applyCommand(), a.diffCommand(), a.syncCommand(),
		a.driftCommand(), a.delegateCommand(), a.handoverCommand(), a.dsCommand(), a.actCommand(), a.holdCommand(), a.checkCommand(), a.watchCommand(), a.explainCommand(), a.providerCommand(), a.registrarCommand(), a.hostCommand(), a.locationCommand(), a.tsigKeyCommand(), a.channelCommand(), a.logbookCommand(), a.clockCommand())
	return root
}

// Run executes the root command and returns the exit code.
func Run(root *cobra.Command, errOut io.Writer) int {
	root.SilenceErrors = true
	if a, ours := root.Context().Value(appKey{}).(*app); ours {
		root.InitDefaultCompletionCmd()
		root.InitDefaultHelpCmd()
		a.tidy(root)
	}
	ran, err := root.ExecuteC()
	if err == nil {
		return ExitFine
	}
	code := ExitFailed
	var e exit
	if errors.As(err, &e) {
		code = e.code
	} else if missing := optionMissing(err); missing != nil {
		code, err = ExitMisuse, missing
	}
	if err.Error() == "" {
		return code
	}
	a, ours := root.Context().Value(appKey{}).(*app)
	errOut = screen.New(errOut, func() bool { return ours && a.output == "json" })
	if ours && (a.output == "json" || a.output == "yaml") {
		_ = a.encode(errOut, documentOf(err, code))
	} else {
		text := "beacon: " + plainly(err)
		if ran.Name() != "serve" { // its errors go into a log, a line each
			text = wrapped(text)
		}
		fmt.Fprintln(errOut, text)
	}
	return code
}

// wrapped breaks lines that are wider than a terminal; those below the first are indented.
func wrapped(text string) string {
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		if utf8.RuneCountInString(line) <= width {
			lines = append(lines, line)
			continue
		}
		indent := line[:len(line)-len(strings.TrimLeft(line, " "))] + "  "
		for i, part := range wrap(strings.TrimSpace(line), width-len(indent)) {
			if i > 0 {
				part = indent + part
			} else {
				part = indent[2:] + part
			}
			lines = append(lines, part)
		}
	}
	return strings.Join(lines, "\n")
}

// failure is what went wrong, as a document.
type failure struct {
	*problem
	Code int `json:"exit_code"`
}

// documentOf returns an error as the service's problem document (RFC 9457), or as one of the same form.
func documentOf(err error, code int) failure {
	var p *problem
	if !errors.As(err, &p) {
		title := "The command failed"
		if code == ExitMisuse {
			title = "The command was misused"
		}
		p = &problem{Type: "about:blank", Title: title, Detail: err.Error()}
	}
	return failure{p, code}
}

func envOr(name, other string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return other
}

// show prints a value as the output option says; table prints it for people.
func (a *app) show(value any, table func()) error {
	if a.output == "json" || a.output == "yaml" {
		return a.encode(a.out, value)
	}
	table()
	return nil
}

// encode writes a value as one document.
func (a *app) encode(w io.Writer, value any) error {
	if a.output == "json" {
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		return encoder.Encode(value)
	}
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	var plain any
	if err := yaml.Unmarshal(text, &plain); err != nil {
		return err
	}
	encoder := yaml.NewEncoder(w)
	encoder.SetIndent(2)
	return encoder.Encode(plain)
}

func (a *app) printf(format string, args ...any) { fmt.Fprintf(a.out, format, args...) }

// isTerminal reports whether a person sits at this stream.
func isTerminal(stream any) bool { return screen.IsTerminal(stream) }

// agreed asks a question on a terminal; elsewhere only --yes agrees.
func (a *app) agreed(yes bool, question string) error {
	if yes {
		return nil
	}
	if !isTerminal(a.in) {
		return misuse("no terminal to confirm on; nothing changed. Repeat with --yes or --dry-run")
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	var answer string
	_, _ = fmt.Fscanln(a.in, &answer)
	if answer == "y" || answer == "yes" || answer == "Y" {
		return nil
	}
	return exit{ExitFailed, "not done; nothing was changed"}
}
