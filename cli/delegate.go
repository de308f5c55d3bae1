package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/handover/compare"
	"beacon/wire"
)

func (a *app) delegateCommand() *cobra.Command {
	var r wire.DelegateRequest
	var dryRun, yes bool
	c := &cobra.Command{
		Use: "delegate DOMAIN", Short: "Change a domain's nameservers at its registrar", Args: cobra.ExactArgs(1),
		Long: "Changes the nameservers of a domain at its registrar: to the desired ones, to those of the only provider that the zone is placed at, or to\n" +
			"a list. Both sides are asked first. A gate that would lose answers stops it; --override passes one, with a reason for the logbook.",
		Example: "  beacon delegate saltmarsh-ferries.example --dry-run\n  beacon delegate saltmarsh-ferries.example --yes\n  beacon delegate saltmarsh-ferries.example --undo",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			if r.Undo && len(r.Nameservers) > 0 {
				return misuse("give --undo or --nameservers, not both")
			}
			var got wire.Delegated
			if err := ask(a, wire.PreviewDelegate, r, &got, name); err != nil {
				return err
			}
			if dryRun {
				if err := a.show(got, func() { a.showDelegated(got, true) }); err != nil || len(got.Closed) == 0 {
					return err
				}
				return exit{ExitFailed, ""}
			}
			if len(got.Closed) > 0 {
				a.findings(got.Closed)
				return exit{ExitFailed, "nothing was changed: a gate is closed. See all of it: beacon delegate " + plain(name) + " --dry-run"}
			}
			if got.ByHand != nil && got.ByHand.Begun {
				return a.show(got, func() { a.showByHand(got) })
			}
			if got.ByHand != nil && !yes {
				if a.output == "table" {
					a.showByHand(got)
				}
				if err := a.agreed(yes, "Note that you enter this list at the registrar of "+plain(got.Domain)+" now?"); err != nil {
					return err
				}
			}
			if len(got.Steps) > 0 && !yes {
				if a.output == "table" {
					a.showDelegated(got, true)
				}
				if err := a.agreed(yes, "Change the nameservers of "+plain(got.Domain)+" at "+got.Registrar+"?"); err != nil {
					return err
				}
			}
			var act wire.Act
			if err := ask(a, wire.Delegate, r, &act, name); err != nil {
				return err
			}
			return a.followAct(act.ID)
		},
	}
	c.Flags().StringSliceVar(&r.Nameservers, "nameservers", nil, "the new list; else the desired nameservers")
	c.Flags().BoolVar(&r.SaveOnly, "save-only", false, "store the list at the registrar and leave it inactive")
	c.Flags().BoolVar(&r.Undo, "undo", false, "restore the nameservers that were active before the last change")
	c.Flags().StringSliceVar(&r.Override, "override", nil, "pass a closed gate, by its code")
	c.Flags().StringVar(&r.Reason, "reason", "", "why a gate is passed, for the logbook")
	c.Flags().StringVar(&r.Agree, "agree", "", "digest of the differences that you accept")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "ask both sides and show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// showDelegated shows what a delegation did, or as a preview would do.
func (a *app) showDelegated(d wire.Delegated, preview bool) {
	if d.ByHand != nil {
		a.showByHand(d)
		return
	}
	a.printf("%s at %s\n", a.paint(bold, plain(d.Domain)), d.Registrar)
	line := func(label, text string) {
		a.printf("  %-21s%s\n", label, strings.Join(wrap(text, width-23), "\n"+strings.Repeat(" ", 23)))
	}
	before, now := "active before", "active now"
	if preview {
		before, now = "active now", "active afterwards"
	}
	line("parent serves", names(d.Parent))
	line("new nameservers", names(d.Wanted))
	line(before, names(d.Before.Active))
	line(now, names(d.After.Active))
	if names(d.After.Saved) != names(d.After.Active) {
		line("saved, not active", names(d.After.Saved))
	}
	if d.Compared > 0 {
		line("answers", answersText(d))
	}
	if preview {
		line("gates", gatesText(d))
	}
	done := strings.Join(d.Steps, ", then ")
	if done == "" {
		done = "none, it is done already"
	}
	line("steps", done)
	a.findings(d.Findings)
	a.printf("  %s\n", d.Next)
}

// showByHand shows what to enter at a registrar, each name on a line of its own to copy, and how far it got.
func (a *app) showByHand(d wire.Delegated) {
	h := d.ByHand
	line := func(label, text string) {
		a.printf("  %-21s%s\n", label, strings.Join(wrap(text, width-23), "\n"+strings.Repeat(" ", 23)))
	}
	a.printf("%s: no registrar account is named, so you enter the nameservers by hand.\n", a.paint(bold, plain(d.Domain)))
	line("parent serves", names(d.Parent))
	line("so far", h.Entered.Say)
	line("", "=> "+h.Entered.Do)
	if d.Compared > 0 {
		line("answers", answersText(d))
	}
	line("gates", gatesText(d))
	a.findings(d.Findings)
	if len(h.Entered.Missing)+len(h.Entered.Wrong)+len(h.Entered.Extra) == 0 {
		return
	}
	a.printf("Enter these at the registrar, and nothing else:\n\n%s\n\n", strings.Join(h.Names, "\n"))
	line("in one line", strings.Join(h.Names, ", "))
	line("with final dot", strings.Join(h.WithDot, " "))
	for _, text := range h.Forms {
		line("", text)
	}
	a.printf("Each check looks at the parent: beacon watch %s\n", plain(d.Domain))
}

func answersText(d wire.Delegated) string {
	differ := len(compare.Open(d.Differences))
	if differ == 0 {
		return fmt.Sprintf("%d names and types compared; both sides answer the same", d.Compared)
	}
	return fmt.Sprintf("%d names and types compared; %d answered differently", d.Compared, differ)
}

func gatesText(d wire.Delegated) string {
	if len(d.Closed) == 0 {
		return "all open"
	}
	var codes []string
	for _, f := range d.Closed {
		codes = append(codes, f.Code)
	}
	return fmt.Sprintf("%d closed: %s", len(codes), strings.Join(codes, ", "))
}
