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
	var revert, adopt, yes, everything bool
	var allow []string
	c := &cobra.Command{Use: "drift [ZONE]", Short: "Show changes made at providers; revert or adopt them", Args: cobra.MaximumNArgs(1),
		Example: "  beacon drift\n  beacon drift saltmarsh-ferries.example --adopt --account heron-main\n  beacon drift saltmarsh-ferries.example --revert",
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case revert && adopt:
				return misuse("either --revert or --adopt")
			case (revert || adopt) && len(args) == 0:
				return misuse("name the zone")
			case len(args) == 0:
				return a.listDrift(everything)
			case revert:
				return a.syncZone(args[0], syncOptions{yes: yes, revert: true, account: account})
			case adopt:
				return a.adoptDrift(args[0], wire.Adoption{Account: account, Allow: allow}, yes)
			}
			return a.showDrift(args[0])
		}}
	c.Flags().StringVar(&account, "account", "", "only this placement")
	c.Flags().BoolVar(&revert, "revert", false, "write the desired records again")
	c.Flags().BoolVar(&adopt, "adopt", false, "accept the records at the provider as desired records")
	c.Flags().StringSliceVar(&allow, "allow", nil, "with --adopt: allow this guard, by its code; may be repeated")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&everything, "all", false, "list placements that are in sync, too")
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
		if everything || p.State != wire.InSync {
			shown = append(shown, p)
		}
	}
	return a.show(shown, func() {
		var rows [][]string
		for _, p := range shown {
			rows = append(rows, []string{plain(p.Zone), p.Account, a.standing(p.PlacementLook), ago(p.LookedAt)})
		}
		if len(rows) > 0 {
			a.table([]string{"ZONE", "ACCOUNT", "STATE", "READ AT"}, rows)
		}
		a.printf("%s of %s in sync.\n", fmt.Sprint(len(list)-countNot(list)), count(len(list), "placement"))
	})
}

func countNot(list []wire.PlacementView) (n int) {
	for _, p := range list {
		if p.State != wire.InSync {
			n++
		}
	}
	return n
}

// standing returns how a placement stands.
func (a *app) standing(p wire.PlacementLook) string {
	switch p.State {
	case wire.InSync:
		return "in sync"
	case wire.Pending:
		return count(p.Pending, "set") + " pending"
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
			a.printf("Revert it with --revert, or adopt it with --adopt --account ACCOUNT.\n")
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
	if err := a.agreed(yes, "Accept as desired records?"); err != nil {
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
	a.printf("Adopted: %s from %s. Other placements get it with the next sync: beacon sync %s\n", count(len(taken.Items), "set"), adoption.Account, zone)
	return nil
}
