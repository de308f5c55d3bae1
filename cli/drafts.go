package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/wire"
)

func (a *app) draftCommand() *cobra.Command {
	c := &cobra.Command{Use: "draft", Short: "Show, accept or discard the edits collected for a zone"}
	show := &cobra.Command{Use: "show ZONE", Short: "Show the draft as a change list, with findings", Args: cobra.ExactArgs(1),
		RunE: a.withDraft(func(d wire.Draft) error { return a.show(d, func() { a.showDraft(d) }) })}
	var why string
	var yes, sync bool
	accept := &cobra.Command{Use: "accept ZONE", Short: "Accept the draft as the next revision; with --sync, write it to the providers", Args: cobra.ExactArgs(1),
		RunE: a.withDraft(func(d wire.Draft) error {
			if a.output == "table" {
				a.showEdits(d)
			}
			if err := a.agreed(yes, "Accept as desired records?"); err != nil {
				return err
			}
			return a.acceptDraft(d, why, sync)
		})}
	accept.Flags().StringVar(&why, "reason", "", "reason, kept with the revision")
	accept.Flags().BoolVar(&yes, "yes", false, "do not ask")
	accept.Flags().BoolVar(&sync, "sync", false, "sync the zones afterwards, so that live DNS changes")
	var sure bool
	drop := &cobra.Command{Use: "discard ZONE", Short: "Discard all edits of the draft", Args: cobra.ExactArgs(1),
		RunE: a.withDraft(func(d wire.Draft) error {
			if a.output == "table" {
				a.showEdits(d)
			}
			if err := a.agreed(sure, "Discard all of this?"); err != nil {
				return err
			}
			if err := askIf(a, wire.DiscardDraft, d.Tag, wire.None{}, nil, d.Zone); err != nil {
				return err
			}
			return a.show(map[string]any{"zone": d.Zone, "discarded": len(d.Edits)}, func() {
				a.printf("Discarded %s. The desired records of %s stay as they are.\n", count(len(d.Edits), "edit"), plain(d.Zone))
			})
		})}
	drop.Flags().BoolVar(&sure, "yes", false, "do not ask")
	c.AddCommand(show, accept, drop)
	return c
}

// withDraft reads the draft of the zone that is named.
func (a *app) withDraft(do func(wire.Draft) error) func(*cobra.Command, []string) error {
	return func(_ *cobra.Command, args []string) error {
		zone, err := dnsname.Parse(args[0])
		if err != nil {
			return misuse("%s", err)
		}
		d, err := a.draft(zone)
		if err != nil {
			return err
		}
		return do(d)
	}
}

func (a *app) draft(zone dnsname.Name) (d wire.Draft, err error) {
	err = ask(a, wire.ShowDraft, wire.None{}, &d, zone)
	return d, err
}

// showDraft shows a draft, and what can be done with it.
func (a *app) showDraft(d wire.Draft) {
	a.showEdits(d)
	if len(d.Edits) > 0 {
		a.printf("  accept   beacon draft accept %s --sync\n  discard  beacon draft discard %s\n", plain(d.Zone), plain(d.Zone))
	}
}

func (a *app) showEdits(d wire.Draft) {
	if len(d.Edits) == 0 {
		a.printf("The draft of %s is empty.\n", plain(d.Zone))
		return
	}
	a.printf("%s  (draft on revision %d)\n", a.paint(bold, plain(d.Zone)), d.Revision)
	a.showRecords(d.Zone, d.Added, d.Removed)
	people := map[string]int{}
	for _, e := range d.Edits {
		a.showAttributes(e.Attributes)
	}
	for _, e := range d.Edits {
		people[e.Author]++
	}
	if len(people) > 1 {
		for who, n := range people {
			a.printf("  %s by %s\n", count(n, "set"), who)
		}
	}
	a.findings(d.Overrun)
	a.found(d.Findings)
	a.printf("%d added, %d removed, %d as before.\n", len(d.Added), len(d.Removed), d.Same)
}

// showAttributes prints declared attributes of sets that change.
func (a *app) showAttributes(list []wire.AttributeChange) {
	for _, c := range list {
		a.setLine(a.paint(amber, "~"), c.Set, fmt.Sprintf("%s: %s, before %s", c.Name, declaredOr(c.After), declaredOr(c.Before)))
	}
}

func declaredOr(value string) string {
	if value == "" {
		return "as the provider has it"
	}
	return value
}

func (a *app) acceptDraft(d wire.Draft, why string, sync bool) error {
	var rev wire.Revision
	if err := askIf(a, wire.DoAcceptDraft, d.Tag, wire.AcceptDraft{Reason: why}, &rev, d.Zone); err != nil {
		return err
	}
	if a.output == "table" {
		a.printf("%s: saved as revision %d.\n", plain(d.Zone), rev.Number)
	}
	if sync {
		return a.syncZone(plain(d.Zone), syncOptions{yes: true})
	}
	return a.show(rev, func() { a.printf("Write it to the providers: beacon sync %s\n", plain(d.Zone)) })
}

func (a *app) operationCommand() *cobra.Command {
	c := &cobra.Command{Use: "operation", Short: "List, undo or sync bulk changes"}
	list := &cobra.Command{Use: "list", Short: "List bulk changes, newest first", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		items, err := all(a, wire.ListOperations)
		if err != nil {
			return err
		}
		return a.show(items, func() {
			var rows [][]string
			for _, o := range items {
				state := ""
				if o.UndoneID != nil {
					state = fmt.Sprintf("undone by %d", *o.UndoneID)
				}
				rows = append(rows, []string{fmt.Sprint(o.ID), o.MadeAt.Format("2006-01-02 15:04:05"), o.Author, state, o.What})
			}
			a.table([]string{"NUMBER", "DONE", "BY", "STATE", "WHAT"}, rows)
		})
	}}
	var yes, alsoSync bool
	undo := &cobra.Command{Use: "undo NUMBER", Short: "Undo a bulk change in all its zones", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		if err := a.agreed(yes, "Undo bulk change "+args[0]+" in all its zones?"); err != nil {
			return err
		}
		var done wire.Replaced
		if err := ask(a, wire.UndoOperation, wire.None{}, &done, args[0]); err != nil {
			return err
		}
		return a.afterOperation(done, alsoSync)
	}}
	undo.Flags().BoolVar(&yes, "yes", false, "do not ask")
	undo.Flags().BoolVar(&alsoSync, "sync", false, "sync the zones afterwards, so that live DNS changes")
	sync := &cobra.Command{Use: "sync NUMBER", Short: "Sync all zones of a bulk change", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		return a.syncOperation(args[0])
	}}
	c.AddCommand(list, undo, sync)
	return c
}

func (a *app) afterOperation(done wire.Replaced, sync bool) error {
	number := fmt.Sprint(done.Operation.ID)
	if err := a.show(done, func() {
		a.printf("Bulk change %s: %s changed in %s. Undo it: beacon operation undo %s\n", number, count(done.Records, "record"), count(len(done.Zones), "zone"), number)
		if !sync {
			a.printf("Write it to the providers: beacon operation sync %s\n", number)
		}
	}); err != nil || !sync {
		return err
	}
	return a.syncOperation(number)
}

func (a *app) syncOperation(number string) error {
	var started wire.Page[wire.SyncView]
	if err := ask(a, wire.SyncOperation, wire.None{}, &started, number); err != nil {
		return err
	}
	failed := 0
	for _, s := range started.Items {
		if err := a.follow(s.ID); err != nil {
			failed++
		}
	}
	if failed > 0 {
		return exit{ExitFailed, count(failed, "sync") + " did not end well; see above"}
	}
	return nil
}
