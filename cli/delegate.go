package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"beacon/wire"
)

func (a *app) delegateCommand() *cobra.Command {
	var servers []string
	var saveOnly, dryRun, yes bool
	c := &cobra.Command{
		Use: "delegate DOMAIN", Short: "Change a domain's nameservers at its registrar", Args: cobra.ExactArgs(1),
		Long: "Changes the nameservers of a domain at its registrar to those of the zone's providers, or to a list of your own.\n" +
			"The new nameservers are asked first: a list with a repeated, misspelt or unready name is refused.",
		Example: "  beacon delegate saltmarsh-ferries.example --dry-run\n  beacon delegate saltmarsh-ferries.example --yes",
		RunE: func(_ *cobra.Command, args []string) error {
			path, _, err := zonePath("domains", args[0], "/delegation")
			if err != nil {
				return err
			}
			body := wire.DelegateRequest{Nameservers: servers, SaveOnly: saveOnly, DryRun: true}
			var got wire.Delegated
			if err := a.call("POST", path, body, &got); err != nil {
				return err
			}
			if dryRun {
				return a.show(got, func() { a.showDelegated(got) })
			}
			if len(got.Steps) > 0 && !yes {
				if a.output == "table" {
					a.showDelegated(got)
				}
				if err := a.agreed(yes, "Change the nameservers of "+plain(got.Domain)+" at "+got.Registrar+"?"); err != nil {
					return err
				}
			}
			body.DryRun = false
			if err := a.call("POST", path, body, &got); err != nil {
				return err
			}
			return a.show(got, func() { a.showDelegated(got) })
		},
	}
	c.Flags().StringSliceVar(&servers, "nameservers", nil, "the new list; else the nameservers that the zone's providers gave it")
	c.Flags().BoolVar(&saveOnly, "save-only", false, "store the list at the registrar and leave it inactive")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "ask the nameservers, and show what would be done")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) showDelegated(d wire.Delegated) {
	a.printf("%s at %s\n", a.paint(bold, plain(d.Domain)), d.Registrar)
	line := func(label, text string) {
		a.printf("  %-21s%s\n", label, strings.Join(wrap(text, width-23), "\n"+strings.Repeat(" ", 23)))
	}
	line("parent serves", names(d.Parent))
	line("wanted", names(d.Wanted))
	line("in force before", names(d.Before.Active))
	line("in force now", names(d.After.Active))
	if names(d.After.Saved) != names(d.After.Active) {
		line("saved, not in force", names(d.After.Saved))
	}
	done := strings.Join(d.Steps, ", then ")
	if done == "" {
		done = "nothing, it stands already"
	}
	line("steps", done)
	a.findings(d.Findings)
	a.printf("  %s\n", d.Next)
}
