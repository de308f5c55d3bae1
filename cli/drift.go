package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/diff"
	"beacon/wire"
)

func (a *app) driftCommand() *cobra.Command {
	var account string
	var putBack, adopt, yes, everything bool
	var allow []string
	c := &cobra.Command{Use: "drift [ZONE]", Short: "What was changed at providers since it was placed there; put it back, or take it over", Args: cobra.MaximumNArgs(1),
		Example: "  beacon drift\n  beacon drift saltmarsh-ferries.example --adopt --account heron-main\n  beacon drift saltmarsh-ferries.example --put-back",
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case putBack && adopt:
				return misuse("either --put-back or --adopt")
			case (putBack || adopt) && len(args) == 0:
				return misuse("name the zone")
			case len(args) == 0:
				return a.listDrift(everything)
			case putBack:
				return a.syncZone(args[0], syncOptions{yes: yes, putBack: true, account: account})
			case adopt:
				return a.adoptDrift(args[0], wire.Adoption{Account: account, Allow: allow}, yes)
			}
			return a.showDrift(args[0])
		}}
	c.Flags().StringVar(&account, "account", "", "only this placement")
	c.Flags().BoolVar(&putBack, "put-back", false, "write again what is wanted")
	c.Flags().BoolVar(&adopt, "adopt", false, "make what is there what the zone should contain")
	c.Flags().StringSliceVar(&allow, "allow", nil, "with --adopt: allow this guard, by its code; may be given several times")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&everything, "all", false, "list placements that are in step, too")
	return c
}

// listDrift shows how placements stood when they were looked at last.
func (a *app) listDrift(everything bool) error {
	list, err := all(a, wire.ListPlacements)
	if err != nil {
		return err
	}
	shown := list[:0:0]
	for _, p := range list {
		if everything || p.Standing != wire.InStep {
			shown = append(shown, p)
		}
	}
	return a.show(shown, func() {
		var rows [][]string
		for _, p := range shown {
			rows = append(rows, []string{plain(p.Zone), p.Account, a.standing(p.PlacementState), ago(p.LookedAt)})
		}
		if len(rows) > 0 {
			a.table([]string{"ZONE", "ACCOUNT", "STANDS", "LOOKED AT"}, rows)
		}
		a.printf("%s of %s in step.\n", fmt.Sprint(len(list)-countNot(list)), count(len(list), "placement"))
	})
}

func countNot(list []wire.PlacementStanding) (n int) {
	for _, p := range list {
		if p.Standing != wire.InStep {
			n++
		}
	}
	return n
}

// standing says how a placement stands.
func (a *app) standing(p wire.PlacementState) string {
	switch p.Standing {
	case wire.InStep:
		return "in step"
	case wire.ToWrite:
		return count(p.ToWrite, "set") + " to write"
	case wire.Drifted:
		return a.paint(amber, count(p.Drifted+p.Conflicting, "set")+" changed elsewhere")
	case wire.Unreachable:
		return a.paint(red, "not reached: ") + shorten(p.Trouble, 40)
	case wire.Unconfirmed:
		return a.paint(amber, "read not confirmed: ") + shorten(p.Trouble, 36)
	}
	return "not looked at yet"
}

func shorten(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return strings.TrimSpace(string(runes[:most-1])) + "…"
	}
	return text
}

// showDrift looks now, and shows what was changed elsewhere and nothing else.
func (a *app) showDrift(zone string) error {
	list, err := a.differences(zone, false)
	if err != nil {
		return err
	}
	drifted := 0
	err = a.show(list, func() {
		for _, d := range list {
			items := append(append([]diff.Item{}, d.Drift...), d.Conflicts...)
			drifted += len(items)
			for _, item := range d.Foreign {
				if slices.Contains(d.Ours, item.Key) {
					items = append(items, item)
				}
			}
			a.printf("%s at %s: %s changed elsewhere\n", a.paint(bold, plain(d.Zone)), d.Account, count(len(items), "set"))
			for _, item := range items {
				why := item.Why
				if slices.Contains(d.Ours, item.Key) {
					why = "written by this service before its database went back"
				}
				a.printf("  %s %-24s %s\n", a.paint(amber, "!"), item.Key.Name.Relative(d.Zone)+" "+item.Key.Type.String(), why)
				a.printf("      placed %s\n      live   %s\n", dataOrNothing(item.Placed), dataOrNothing(item.Live))
			}
		}
		if drifted > 0 {
			a.printf("Put it back with --put-back, or take it over with --adopt --account ACCOUNT.\n")
		}
	})
	return err
}

func (a *app) adoptDrift(zone string, adoption wire.Adoption, yes bool) error {
	if adoption.Account == "" {
		return misuse("name the account that it was changed at: --account")
	}
	if err := a.showDrift(zone); err != nil {
		return err
	}
	if err := a.agreed(yes, "Make this what the zone should contain?"); err != nil {
		return err
	}
	name, err := parseName(zone)
	if err != nil {
		return err
	}
	var taken wire.Page[diff.Item]
	if err := ask(a, wire.AdoptDrift, adoption, &taken, name); err != nil {
		return err
	}
	a.printf("Taken over: %s from %s. Other placements get it with the next sync: beacon sync %s\n", count(len(taken.Items), "set"), adoption.Account, zone)
	return nil
}
