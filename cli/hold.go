package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"beacon/wire"
)

func (a *app) holdCommand() *cobra.Command {
	c := &cobra.Command{Use: "hold", Short: "Stop all changes at providers and registrars, and release them",
		Long: "Keep the service from changing anything outside, and release it.\n\nA service that is held looks, and writes nothing to providers and registrars. It begins so by itself after its " +
			"database was restored to an earlier state: what is outside is newer then, and would be overwritten."}
	show := &cobra.Command{Use: "show", Short: "Show whether the service is held, and what is newer at providers", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		var h wire.Hold
		if err := ask(a, wire.ShowHold, wire.None{}, &h); err != nil {
			return err
		}
		return a.showHold(h)
	}}
	var reason, account string
	var all, yes bool
	start := &cobra.Command{Use: "start", Short: "Hold the service", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		var h wire.Hold
		if err := ask(a, wire.BeginHold, wire.HoldRequest{Reason: reason}, &h); err != nil {
			return err
		}
		return a.showHold(h)
	}}
	start.Flags().StringVar(&reason, "reason", "", "reason, for the logbook")
	release := &cobra.Command{Use: "release [ZONE]", Short: "Release a zone or everything; what waits is written", Args: cobra.MaximumNArgs(1),
		Example: "  beacon hold release saltmarsh-ferries.example --account heron-main\n  beacon hold release --all",
		RunE: func(_ *cobra.Command, args []string) error {
			r := wire.HoldRelease{All: all, Account: account}
			switch {
			case all == (len(args) == 1):
				return misuse("name a zone, or say --all")
			case len(args) == 1:
				name, err := parseName(args[0])
				if err != nil {
					return err
				}
				r.Zone = name
			default:
				var h wire.Hold
				if err := ask(a, wire.ShowHold, wire.None{}, &h); err != nil {
					return err
				}
				if h.Newer+h.Unseen > 0 {
					a.printf("%s newer outside, %d not looked at yet. Syncs, reverts and reported addresses that wait will be written.\n", count(h.Newer, "placement")+" with record sets", h.Unseen)
				}
				if err := a.agreed(yes, "Release everything?"); err != nil {
					return err
				}
			}
			var h wire.Hold
			if err := ask(a, wire.ReleaseHold, r, &h); err != nil {
				return err
			}
			return a.showHold(h)
		}}
	release.Flags().StringVar(&account, "account", "", "only at this account")
	release.Flags().BoolVar(&all, "all", false, "everything")
	release.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.AddCommand(show, start, release)
	return c
}

func (a *app) showHold(h wire.Hold) error {
	return a.show(h, func() {
		if !h.Held {
			a.printf("Nothing is held.\n")
			return
		}
		for _, line := range wrap(fmt.Sprintf("Held since %s, asked for by %s: %s", h.Since.Local().Format(time.DateTime), h.Asked, h.Reason), width) {
			a.printf("%s\n", line)
		}
		a.printf("%s: %d newer outside, %d not looked at yet, %d released.\n", count(h.Total, "placement"), h.Newer, h.Unseen, h.Released)
		var rows [][]string
		for _, p := range h.Placements {
			state := count(p.Newer, "set") + " newer outside"
			if p.Ours > 0 {
				state += fmt.Sprintf(", %d by this service", p.Ours)
			}
			switch {
			case !p.Looked:
				state = "not looked at yet"
			case p.Newer == 0 && p.Pending > 0:
				state = count(p.Pending, "set") + " pending"
			case p.Newer == 0:
				state = string(p.State) + " " + shorten(p.Trouble, 30)
			}
			released := ""
			if p.Released {
				released = "released"
			}
			rows = append(rows, []string{plain(p.Zone), p.Account, state, released})
		}
		if len(rows) > 0 {
			a.table([]string{"ZONE", "ACCOUNT", "STATE", ""}, rows)
		}
		a.printf("Look at one: beacon drift ZONE. Keep what is outside: beacon drift ZONE --adopt --account ACCOUNT.\nThen release it: beacon hold release ZONE --account ACCOUNT, or all: beacon hold release --all\n")
	})
}
