package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/record"
	"beacon/core/zonefile"
	"beacon/wire"
)

// criteria are the options that say which records are meant.
func criteria(c *cobra.Command, r *wire.SearchRequest) {
	c.Flags().StringVar(&r.Name, "name", "", "owner name; * at the beginning or end matches anything")
	c.Flags().StringVar(&r.Value, "value", "", "record data; * as above")
	c.Flags().StringVar(&r.Address, "ip", "", "address, or network such as 192.0.2.0/24")
	c.Flags().StringVar(&r.Type, "type", "", "record type")
	c.Flags().StringVar(&r.TTL, "ttl-is", "", "TTL in seconds, or <300, >=3600 …")
	c.Flags().StringVar(&r.Zone, "zone", "", "only in this zone")
}

func (a *app) searchCommand() *cobra.Command {
	var r wire.SearchRequest
	var most int
	c := &cobra.Command{Use: "search [TEXT]", Short: "Find records in all zones", Args: cobra.MaximumNArgs(1),
		Long: "Find desired records in all zones: by address, network, owner name or record data.\n" +
			"Options narrow it down; all that are given have to hold.",
		Example: "  beacon search 192.0.2.40\n  beacon search 'web*'\n  beacon search --value '*.post.example' --type MX\n  beacon search --ip 192.0.2.0/24 --ttl-is '>3600'",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				r.Text = args[0]
			}
			search := wire.SearchRecords
			for name, value := range map[string]string{"text": r.Text, "zone": r.Zone, "name": r.Name, "value": r.Value, "type": r.Type, "address": r.Address, "ttl": r.TTL} {
				if value != "" {
					search = search.With(name, value)
				}
			}
			search = search.With("limit", fmt.Sprint(min(most, 200)))
			hits := []wire.Hit{}
			more := false
			for {
				var p wire.Page[wire.Hit]
				if err := ask(a, search, wire.None{}, &p); err != nil {
					return err
				}
				hits = append(hits, p.Items...)
				if p.Next == "" {
					break
				}
				if more = len(hits) >= most; more {
					break
				}
				search = search.With("cursor", p.Next)
			}
			hits = hits[:min(len(hits), most)]
			return a.show(hits, func() {
				var rows [][]string
				for _, h := range hits {
					rows = append(rows, []string{plain(h.Zone), shown(h.Record.Name, h.Zone), fmt.Sprint(h.Record.TTL), h.Record.Type.String(), string(h.Record.Data)})
				}
				switch {
				case len(hits) == 0:
					a.printf("Nothing is found.\n")
					return
				default:
					a.table([]string{"ZONE", "NAME", "TTL", "TYPE", "DATA"}, rows)
				}
				if more {
					a.printf("There are more: say more exactly what you look for, or --most %d.\n", most*5)
				}
			})
		}}
	criteria(c, &r)
	c.Flags().IntVar(&most, "most", 100, "number of records to show")
	return c
}

func (a *app) recordReplaceCommand() *cobra.Command {
	var r wire.ReplaceRequest
	var ttl string
	var yes, sync bool
	c := &cobra.Command{Use: "replace [TEXT]", Short: "Bulk replace (can be undone): change all records that a search finds", Args: cobra.MaximumNArgs(1),
		Long:    "Finds records as beacon search does, shows what becomes of them in every zone, and on yes changes them all or none. It can be undone: beacon operation undo.",
		Example: "  beacon record replace 192.0.2.40 --to 192.0.2.50 --dry-run\n  beacon record replace --value mx1.post.example --type MX --to mx3.post.example. --sync",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				r.Search.Text = args[0]
			}
			if ttl != "" {
				seconds, err := zonefile.ParseTTL(ttl)
				if err != nil {
					return misuse("--ttl: %s", err)
				}
				r.TTL = &seconds
			}
			dryRun := r.DryRun
			r.DryRun = true
			var planned wire.Replaced
			if err := ask(a, wire.ReplaceRecords, r, &planned); err != nil {
				return err
			}
			if a.output == "table" {
				a.showReplaced(planned)
			}
			if dryRun || len(planned.Zones) == 0 {
				return a.show(planned, func() { a.printf("Nothing was changed.\n") })
			}
			if err := a.agreed(yes, fmt.Sprintf("Change %s in %s?", count(planned.Records, "record"), count(len(planned.Zones), "zone"))); err != nil {
				return err
			}
			r.DryRun, r.Expect = false, planned.Digest
			var done wire.Replaced
			if err := ask(a, wire.ReplaceRecords, r, &done); err != nil {
				return err
			}
			return a.afterOperation(done, sync)
		}}
	criteria(c, &r.Search)
	c.Flags().StringVar(&r.To, "to", "", "new data of the records")
	c.Flags().StringVar(&ttl, "ttl", "", "new TTL of the records")
	c.Flags().BoolVar(&r.SkipManaged, "skip-managed", false, "skip zones that definition files manage")
	c.Flags().StringVar(&r.Reason, "reason", "", "reason, kept with the revision")
	c.Flags().BoolVar(&r.DryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&sync, "sync", false, "sync the zones afterwards, so that live DNS changes")
	return c
}

func (a *app) showReplaced(r wire.Replaced) {
	for _, z := range r.Zones {
		a.printf("%s\n", a.paint(bold, plain(z.Zone)))
		for _, step := range z.Steps {
			added, removed, _ := record.Difference(record.ContentsOf(step.Before), record.ContentsOf(step.After))
			a.showRecords(z.Zone, added, removed)
		}
	}
	if len(r.Skipped) > 0 {
		names := make([]string, len(r.Skipped))
		for i, name := range r.Skipped {
			names[i] = plain(name)
		}
		for _, line := range wrap(fmt.Sprintf("%s managed by definition files: %s.", are(len(names), "zone"), strings.Join(names, ", ")), width) {
			a.printf("%s\n", line)
		}
		a.printf("  Change the files; to skip these zones here: --skip-managed\n")
	}
	a.printf("%s in %s.\n", count(r.Records, "record"), count(len(r.Zones), "zone"))
}
