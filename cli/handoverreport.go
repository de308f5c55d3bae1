package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/handover/compare"
	"beacon/wire"
)

func (a *app) handoverReportCommand() *cobra.Command {
	return &cobra.Command{Use: "report DOMAIN", Short: "Print the report of a handover, to hand on", Args: cobra.ExactArgs(1),
		Long: "Prints the newest handover of a domain as a Markdown document: from where to where, each step with the time that was planned and the\n" +
			"real one, on what evidence each act was done, what both sides answered differently, and who allowed what.",
		Example: "  beacon handover report saltmarsh-ferries.example > report.md",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var v wire.Handover
			if err := ask(a, wire.ShowHandover, wire.None{}, &v, name); err != nil {
				return err
			}
			return a.showText(name, "markdown", func(w io.Writer) error {
				_, err := io.WriteString(w, handoverReport(v))
				return err
			})
		}}
}

// handoverReport is a handover as a document.
func handoverReport(v wire.Handover) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.DateTime)
	}
	line("# Handover of %s", plain(v.Domain))
	line("")
	side := func(account, nothing string, set string) string {
		if account == "" {
			account = nothing
		}
		return account + ": " + set
	}
	before := names(v.Old)
	if len(v.Old) == 0 {
		before = "not delegated"
	}
	line("- Old nameservers: %s", side(v.From, "elsewhere", before))
	line("- New nameservers: %s", side(v.To, "elsewhere", names(v.New)))
	line("- Registrar: %s", orElse(v.Registrar, "by hand"))
	line("- Begun: %s UTC, by %s", at(v.BegunAt), v.BegunBy)
	switch v.State {
	case wire.HandoverDone:
		line("- Done: %s UTC", at(v.EndedAt))
	case wire.HandoverAbandoned:
		line("- Ended before its end: %s UTC", at(v.EndedAt))
	default:
		line("- State: %s", stateText(v))
	}
	line("")
	line("## Steps")
	line("")
	line("| step | planned (UTC) | done (UTC) |")
	line("|---|---|---|")
	for _, s := range v.Steps {
		done, planned := "", at(s.Planned)
		if s.State == wire.StepDone {
			done = at(s.At)
		} else if planned == "" {
			planned = at(s.At)
		}
		line("| %s | %s | %s |", cell(s.Text), planned, done)
	}
	line("")
	line("## Comparison of both sides")
	line("")
	line("%s.", comparedText(v.Compared))
	if open := compare.Open(v.Compared.Differences); len(open) > 0 {
		line("")
		line("| name and type | old | new |")
		line("|---|---|---|")
		for _, d := range open {
			line("| %s %s | %s | %s |", d.Key.Name.Relative(v.Domain), d.Key.Type, cell(d.Old), cell(d.New))
		}
	}
	if len(v.Hanging) > 0 {
		line("")
		line("## What else hangs on the old nameservers")
		line("")
		for _, f := range v.Hanging {
			line("- %s %s", f.Message, f.Remedy)
		}
	}
	line("")
	line("## What was established, and said")
	line("")
	for _, e := range v.Report {
		text := fmt.Sprintf("- %s UTC: %s", at(e.At), e.Text)
		if e.By != "" {
			text += " (" + e.By + ")"
		}
		if e.Act != 0 {
			text += fmt.Sprintf(", act %d", e.Act)
		}
		line("%s", text)
		for _, g := range e.Grounds {
			line("  - %s", g)
		}
	}
	return b.String()
}

// cell is a text within a table of Markdown.
func cell(text string) string { return strings.ReplaceAll(text, "|", `\|`) }
