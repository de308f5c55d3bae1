package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/wire"
)

func (a *app) zoneHistoryCommand() *cobra.Command {
	var from, to uint32
	var of string
	c := &cobra.Command{
		Use: "history ZONE", Short: "Show revisions of a zone, the difference between two, or the history of a name", Args: cobra.ExactArgs(1),
		Example: "  beacon zone history saltmarsh-ferries.example\n  beacon zone history saltmarsh-ferries.example --from 1 --to 3\n  beacon zone history saltmarsh-ferries.example --of www",
		RunE: func(cmd *cobra.Command, args []string) error {
			zone, err := parseName(args[0])
			if err != nil {
				return err
			}
			switch {
			case of != "":
				return a.nameHistory(zone, of)
			case to != 0:
				return a.compareRevisions(zone, from, to)
			case cmd.Flags().Changed("from"):
				return misuse("say up to which revision: --to NUMBER")
			}
			return a.revisions(zone)
		},
	}
	c.Flags().Uint32Var(&from, "from", 0, "compare from this revision; 0 for the empty zone before the first")
	c.Flags().Uint32Var(&to, "to", 0, "compare to this revision")
	c.Flags().StringVar(&of, "of", "", "the history of this name")
	return c
}

func (a *app) revisions(zone dnsname.Name) error {
	list, err := all(a, wire.ListRevisions, zone)
	if err != nil {
		return err
	}
	return a.show(list, func() {
		var rows [][]string
		for _, r := range list {
			from := r.Source
			if r.Reason != "" {
				from += ": " + r.Reason
			}
			rows = append(rows, []string{fmt.Sprint(r.Number), r.CreatedAt.Format("2006-01-02 15:04:05"), r.Author, fmt.Sprint(r.Records), from})
		}
		a.table([]string{"REVISION", "ACCEPTED", "BY", "RECORDS", "FROM"}, rows)
	})
}

func (a *app) compareRevisions(zone dnsname.Name, from, to uint32) error {
	var got wire.Compared
	if err := ask(a, wire.CompareRevisions.With("from", fmt.Sprint(from), "to", fmt.Sprint(to)), wire.None{}, &got, zone); err != nil {
		return err
	}
	return a.show(got, func() {
		a.showRecords(zone, got.Added, got.Removed)
		a.showAttributes(got.Attributes)
		a.printf("From revision %d to %d: %d added, %d removed, %d the same.\n", from, to, len(got.Added), len(got.Removed), got.Same)
	})
}

func (a *app) nameHistory(zone dnsname.Name, of string) error {
	name, err := dnsname.ParseRelative(of, zone)
	if err != nil {
		return misuse("--of: %s", err)
	}
	list, err := all(a, wire.ListNameChanges.With("of", name.String()), zone)
	if err != nil {
		return err
	}
	return a.show(list, func() {
		if len(list) == 0 {
			a.printf("No revision says anything of %s.\n", plain(name))
		}
		for _, c := range list {
			a.printf("revision %d, %s, by %s, from %s\n", c.Revision.Number, c.Revision.CreatedAt.Format("2006-01-02 15:04:05"), c.Revision.Author, c.Revision.Source)
			a.showRecords(zone, c.Added, c.Removed)
			a.showAttributes(c.Attributes)
		}
	})
}

func (a *app) zoneRestoreCommand() *cobra.Command {
	var number uint32
	var why string
	var dryRun, yes bool
	c := &cobra.Command{
		Use: "restore ZONE --revision NUMBER", Short: "Restore an earlier revision", Args: cobra.ExactArgs(1),
		Long: "Restore an earlier revision as a new one. Nothing is written to a provider: beacon sync does that.",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, err := parseName(args[0])
			if err != nil {
				return err
			}
			var view wire.ZoneView
			if err := ask(a, wire.ShowZone, wire.None{}, &view, zone); err != nil {
				return err
			}
			if view.Revision == nil {
				return exit{ExitFailed, plain(zone) + " has no revision yet"}
			}
			if a.output == "table" || dryRun {
				if err := a.compareRevisions(zone, view.Revision.Number, number); err != nil || dryRun {
					return err
				}
			}
			if err := a.agreed(yes, fmt.Sprintf("Restore %s to revision %d?", plain(zone), number)); err != nil {
				return err
			}
			var made wire.Revision
			if err := ask(a, wire.RestoreRevision, wire.Restore{Revision: number, Reason: why}, &made, zone); err != nil {
				return err
			}
			return a.show(made, func() {
				a.printf("Saved as revision %d. Live DNS is unchanged; sync it: beacon sync %s\n", made.Number, plain(zone))
			})
		},
	}
	c.Flags().Uint32Var(&number, "revision", 0, "number of the revision, as beacon zone history shows it")
	c.Flags().StringVar(&why, "reason", "", "reason, kept with the revision")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	_ = c.MarkFlagRequired("revision")
	return c
}
