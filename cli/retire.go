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
	var allow []string
	c := &cobra.Command{Use: "retire ZONE", Short: "Remove a zone from a provider, once no resolver can still use it", Args: cobra.ExactArgs(1),
		Example: "  beacon zone retire saltmarsh-ferries.example --account plover-old --dry-run",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			body := wire.RetireRequest{Account: account, Keep: keep, Allow: allow}
			var out wire.Retired
			if err := ask(a, wire.PreviewRetire, body, &out, name); err != nil {
				return err
			}
			a.findings(unless(out.Guards, allow))
			if dryRun {
				if err := a.show(out, func() { a.printf("This is a preview. Nothing was changed.\n") }); err != nil || len(unless(out.Guards, allow)) == 0 {
					return err
				}
				return exit{ExitFailed, ""}
			}
			if len(unless(out.Guards, allow)) > 0 {
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
				a.printf("If a definition file names this account in \"at\", take it out there.\n")
			}
			return nil
		}}
	c.Flags().StringVar(&account, "account", "", "the provider account to remove it from")
	c.Flags().BoolVar(&keep, "keep", false, "leave the zone at the provider, and no longer manage it there")
	c.Flags().StringSliceVar(&allow, "allow", nil, "allow what a guard blocks, by its code")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "look only")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	_ = c.MarkFlagRequired("account")
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
