package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"beacon/core/finding"
	"beacon/wire"
)

// retireCommand removes a zone from a provider, once no resolver can still use it.
func (a *app) retireCommand() *cobra.Command {
	var account string
	var keep, yes, dryRun bool
	var override []string
	var reason string
	c := &cobra.Command{Use: "retire ZONE", Short: "Remove a zone from a provider, once no resolver can still use it", Args: cobra.ExactArgs(1),
		Example: "  beacon zone retire saltmarsh-ferries.example --account plover-old --dry-run",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			body := wire.RetireRequest{Account: account, Keep: keep, Override: override, Reason: reason}
			var out wire.Retired
			if err := ask(a, wire.PreviewRetire, body, &out, name); err != nil {
				return err
			}
			a.findings(unless(out.Guards, override))
			if dryRun {
				if err := a.show(out, func() { a.printf("This is a preview. Nothing was changed.\n") }); err != nil || len(unless(out.Guards, override)) == 0 {
					return err
				}
				return exit{ExitFailed, ""}
			}
			if len(unless(out.Guards, override)) > 0 {
				return exit{ExitFailed, "a guard blocks this; nothing was changed"}
			}
			question := fmt.Sprintf("Remove %s and all its records from %s?", plain(name), account)
			if keep {
				question = fmt.Sprintf("Leave %s at %s and no longer manage it there?", plain(name), account)
			}
			if err := a.agreed(yes, question); err != nil {
				return err
			}
			var act wire.Act
			if err := ask(a, wire.Retire, body, &act, name); err != nil {
				return err
			}
			if err := a.followAct(act.ID); err != nil {
				return err
			}
			if a.output == "table" {
				a.printf("If a definition file names this account under \"providers\", remove it there.\n")
			}
			return nil
		}}
	c.Flags().StringVar(&account, "account", "", "the provider account to remove it from")
	c.Flags().BoolVar(&keep, "keep", false, "leave the zone at the provider, and no longer manage it there")
	c.Flags().StringSliceVar(&override, "override", nil, "pass a safety gate, by its code; names lose their answers")
	c.Flags().StringVar(&reason, "reason", "", "with --override: why, for the logbook")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would happen; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	_ = c.MarkFlagRequired("account")
	return c
}

// deleteCommand deletes a zone here.
func (a *app) deleteCommand() *cobra.Command {
	var yes, dryRun bool
	var override []string
	var reason string
	c := &cobra.Command{Use: "delete ZONE", Short: "Delete a zone here; nothing changes at a provider or registrar", Args: cobra.ExactArgs(1),
		Example: "  beacon zone retire tides.example --account heron-main\n  beacon zone delete tides.example",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			body := wire.DeleteRequest{Override: override, Reason: reason}
			var out wire.Deleted
			if err := ask(a, wire.PreviewDelete, body, &out, name); err != nil {
				return err
			}
			blocking := unless(out.Guards, override)
			a.findings(blocking)
			if dryRun || len(blocking) > 0 {
				if err := a.show(out, func() {
					a.printf("%s: %s, %s. Nothing was changed.\n", plain(name), count(out.Records, "record"), count(out.Hosts, "dynamic host"))
				}); err != nil || len(blocking) == 0 {
					return err
				}
				return exit{ExitFailed, ""}
			}
			if err := a.agreed(yes, fmt.Sprintf("Delete %s with %s, all revisions and %s? This cannot be undone.", plain(name), count(out.Records, "record"), count(out.Hosts, "dynamic host"))); err != nil {
				return err
			}
			if err := ask(a, wire.DeleteZone, body, &out, name); err != nil {
				return err
			}
			return a.show(out, func() { a.printf("Deleted %s. Nothing changed at a provider or registrar.\n", plain(name)) })
		}}
	c.Flags().StringSliceVar(&override, "override", nil, "pass a safety gate, by its code")
	c.Flags().StringVar(&reason, "reason", "", "with --override: why, for the logbook")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would happen; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// unless leaves out findings that were said yes to.
func unless(list []finding.Finding, allowed []string) (rest []finding.Finding) {
	for _, f := range list {
		said := false
		for _, code := range allowed {
			said = said || code == f.Code
		}
		if !said {
			rest = append(rest, f)
		}
	}
	return rest
}
