package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/delegation"
	"beacon/wire"
)

func (a *app) todayCommand() *cobra.Command {
	return &cobra.Command{Use: "today", Short: "Show what needs action, what is under way, and what ends soon", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			var today wire.Today
			if err := ask(a, wire.ShowToday, wire.None{}, &today); err != nil {
				return err
			}
			return a.show(today, func() { a.showToday(today) })
		}}
}

func (a *app) showToday(t wire.Today) {
	a.printf("%s\n", a.paint(bold, "Needs action"))
	for _, item := range t.Attention {
		what, do := needs(item)
		a.printf("  %-28s %s\n", plain(item.Zone), strings.Join(wrap(what, width-31), "\n"+strings.Repeat(" ", 31)))
		a.printf("  %-28s => %s\n", "", do)
	}
	if len(t.Attention) == 0 {
		a.printf("  nothing\n")
	}
	a.printf("%s\n", a.paint(bold, "Under way"))
	for _, d := range t.Settling {
		until := "no time known: old nameservers answer without a bound"
		if d.SettlesBy != nil {
			until = fmt.Sprintf("settles by %s, in %s", d.SettlesBy.UTC().Format(time.DateTime), span(d.SettlesBy.Sub(t.SimulatedAt)))
		}
		a.printf("  %-28s %s\n", plain(d.Zone), until)
	}
	for _, r := range t.Running {
		a.printf("  %-28s %s %d: %s %s\n", plain(r.Zone), r.Kind, r.ID, r.State, r.Message)
	}
	if len(t.Settling)+len(t.Running) == 0 {
		a.printf("  nothing\n")
	}
	a.printf("%s\n", a.paint(bold, "Ends soon"))
	for _, e := range t.Ending {
		a.printf("  %-28s %s %s: %s, in %s\n", plain(e.Zone), strings.TrimSuffix(e.Code, "-ends-soon"), strings.TrimSuffix(e.Subject, "."), e.EndsAt.UTC().Format(time.DateTime), span(e.EndsAt.Sub(t.SimulatedAt)))
	}
	if len(t.Ending) == 0 {
		a.printf("  nothing\n")
	}
	a.printf("%s\n  %s accepted, %s done, %d blocked or failed, %s\n", a.paint(bold, "Since yesterday"),
		count(t.Done.Revisions, "revision"), count(t.Done.Syncs, "sync"), t.Done.Troubled, count(t.Done.Delegations, "delegation"))
}

// needs returns what a thing that needs a person is, and the command to begin with.
func needs(i wire.TodayItem) (what, do string) {
	zone := plain(i.Zone)
	switch i.Kind {
	case "handover":
		return "its handover waits for you: " + i.Message, "beacon handover show " + zone
	case "sync":
		return fmt.Sprintf("sync %d at %s %s: %s", i.ID, i.Account, i.State, i.Message), "beacon diff " + zone
	case "drift":
		what = fmt.Sprintf("%s at %s changed outside", count(i.Count, "set"), i.Account)
		if i.Count == 0 {
			what = fmt.Sprintf("%s at %s: %s", i.State, i.Account, i.Message)
		}
		return what, "beacon drift " + zone
	case "draft":
		return count(i.Count, "edit") + " in the draft, not accepted", "beacon draft show " + zone
	}
	switch i.Verdict {
	case delegation.ReadyToMove:
		return "ready to move", "beacon handover begin " + zone + " --to ACCOUNT"
	case delegation.Unknown:
		return "check failed", "beacon check " + zone
	}
	return strings.TrimSuffix("needs action: "+i.Finding, ": "), "beacon check " + zone
}
