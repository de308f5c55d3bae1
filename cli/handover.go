package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/wire"
)

func (a *app) handoverCommand() *cobra.Command {
	c := &cobra.Command{Use: "handover", Short: "Move a domain to other nameservers without a lost answer"}
	c.AddCommand(a.handoverBeginCommand(), a.handoverListCommand(), a.handoverShowCommand(), a.handoverNextCommand(),
		a.handoverTurnCommand("pause", "Begin nothing more; the domain is still looked at", "Pause the handover?", wire.PauseHandover),
		a.handoverTurnCommand("resume", "Let a paused handover go on", "Resume the handover?", wire.ResumeHandover),
		a.handoverTurnCommand("back", "Go back to the old nameservers", "Go back?", wire.ReturnHandover),
		a.handoverTurnCommand("abandon", "End a handover, and undo nothing", "End the handover and undo nothing?", wire.AbandonHandover),
		a.handoverForecastCommand(), a.handoverReportCommand())
	return c
}

func (a *app) handoverForecastCommand() *cobra.Command {
	var r wire.ForecastRequest
	var grace, publish time.Duration
	c := &cobra.Command{Use: "forecast DOMAIN", Short: "Show when each step of a handover can be done; change nothing", Args: cobra.ExactArgs(1),
		Long: "Asks the parent and both sides now, and computes from their TTLs when each step can be done without a lost answer: removing the DS,\n" +
			"changing the nameservers, publishing the new DS, removing the old zone. The times hold if each step is done as soon as it may be.",
		Example: "  beacon handover forecast saltmarsh-ferries.example\n  beacon handover forecast saltmarsh-ferries.example --sign --grace 48h",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			for flag, given := range map[string]struct {
				span time.Duration
				into **int64
			}{"grace": {grace, &r.Grace}, "publish": {publish, &r.Publish}} {
				if cmd.Flags().Changed(flag) {
					seconds := int64(given.span / time.Second)
					*given.into = &seconds
				}
			}
			var got wire.Forecast
			if err := ask(a, wire.ForecastHandover, r, &got, name); err != nil {
				return err
			}
			if err := a.show(got, func() { a.showForecast(got) }); err != nil || len(got.Closed) == 0 {
				return err
			}
			return exit{ExitFailed, ""}
		}}
	c.Flags().StringVar(&r.To, "to", "", "the provider account that the zone moves to, and that has it already")
	c.Flags().StringSliceVar(&r.Nameservers, "nameservers", nil, "the new list; else the desired nameservers")
	c.Flags().BoolVar(&r.Sign, "sign", false, "the new zone is signed, and gets a DS at the end")
	c.Flags().BoolVar(&r.KeepOld, "keep-old", false, "the old zone stays at its provider")
	c.Flags().DurationVar(&grace, "grace", 7*24*time.Hour, "how long the old zone stays once the change has settled")
	c.Flags().DurationVar(&publish, "publish", 5*time.Minute, "how long the registry takes until its nameservers serve a change")
	c.Flags().StringVar(&r.Window, "window", "", "change nameservers, DS and zones only then, such as \"Tue 02:00-04:00\"")
	c.Flags().StringVar(&r.Timezone, "timezone", "", "of the window, such as Europe/Berlin; else UTC")
	c.Flags().StringVar(&r.Agree, "agree", "", "digest of the differences that you accept")
	return c
}

// showForecast shows a timetable: each step with its moment, how long that is from now, and the command that does it.
func (a *app) showForecast(f wire.Forecast) {
	holder := f.Registrar
	if holder == "" {
		holder = "a registrar, by hand"
	}
	a.printf("%s at %s\n", a.paint(bold, plain(f.Domain)), holder)
	line := func(label, text string) {
		a.printf("  %-21s%s\n", label, strings.Join(wrap(text, width-23), "\n"+strings.Repeat(" ", 23)))
	}
	before := names(f.Old)
	if len(f.Old) == 0 {
		before = "none, it is not delegated yet"
	}
	line("old nameservers", before)
	line("new nameservers", names(f.New))
	a.printf("\n")
	for _, s := range f.Steps {
		after := "now"
		if s.At.After(f.Now) {
			after = "in " + span(s.At.Sub(f.Now))
		}
		text := s.Text
		if !s.Until.IsZero() {
			text += " (" + moment(s.Until, f.Now) + ")"
		}
		line(after, text)
		if s.Command != "" {
			line("", a.paint(dim, s.Command))
		}
	}
	if !f.Ends.IsZero() {
		text := "It can be done by " + moment(f.Ends, f.Now) + " (" + span(f.Ends.Sub(f.Now)) + " from now), if each step is done as soon as it may be."
		a.printf("\n%s\n", strings.Join(wrap(text, width), "\n"))
	}
	a.findings(f.Closed)
	a.printf("%s\n", strings.Join(wrap(f.Next, width), "\n"))
}
