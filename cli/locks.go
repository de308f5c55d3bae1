package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/wire"
)

// lockCommand sets a status of a domain at its registrar, or lifts it.
func (a *app) lockCommand(lift bool) *cobra.Command {
	r := wire.LockRequest{Lift: lift}
	var dryRun, yes bool
	use, short, question := "lock DOMAIN", "Set a lock of a domain at its registrar", "Set"
	if lift {
		use, short, question = "unlock DOMAIN", "Lift a lock of a domain at its registrar", "Lift"
	}
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1),
		Long: short + ". A lock is a status of the registration (RFC 8056): under \"" + wire.UpdateLock + "\" the registry refuses\n" +
			"changes of nameservers. The change is an act: see beacon act.",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var got wire.LockChange
			if err := ask(a, wire.PreviewLock, r, &got, name); err != nil {
				return err
			}
			if dryRun || !got.Pending || !got.Locks {
				if err := a.show(got, func() { a.showLock(got) }); err != nil || !got.Pending || dryRun {
					return err
				}
				return exit{ExitFailed, ""}
			}
			if !yes {
				if a.output == "table" {
					a.showLock(got)
				}
				if err := a.agreed(yes, fmt.Sprintf("%s %q of %s at %s?", question, got.Status, plain(got.Domain), got.Registrar)); err != nil {
					return err
				}
			}
			var act wire.Act
			if err := ask(a, wire.ChangeLock, r, &act, name); err != nil {
				return err
			}
			return a.followAct(act.ID)
		}}
	c.Flags().StringVar(&r.Status, "status", wire.UpdateLock, "which status; others are 'client transfer prohibited' and 'client delete prohibited'")
	c.Flags().StringVar(&r.Reason, "reason", "", "why, for the logbook")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// showLock shows the statuses of a registration, and what is to be done.
func (a *app) showLock(l wire.LockChange) {
	a.printf("%s: %s\n", a.paint(bold, plain(l.Domain)), l.Registrar)
	label := "statuses"
	for _, status := range l.Before {
		if why := l.Reasons[status]; why != "" {
			status += ": " + why
		}
		for _, line := range wrap(status, width-14) {
			a.printf("  %-12s%s\n", label, line)
			label = ""
		}
	}
	if len(l.Before) == 0 {
		a.printf("  %-12snone\n", label)
	}
	if l.Pending && l.Locks {
		verb := "set"
		if l.Lift {
			verb = "lift"
		}
		a.printf("  %-12s%s\n", "to "+verb, l.Status)
	}
	if l.Next != "" {
		for _, line := range wrap(l.Next, width-2) {
			a.printf("  %s\n", strings.TrimSpace(line))
		}
	}
}
