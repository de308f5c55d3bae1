package cli

import (
	"github.com/spf13/cobra"

	"beacon/core/zonefile"
	"beacon/wire"
)

func (a *app) recordSetCommand() *cobra.Command {
	var ttl, tag string
	var remove bool
	var r wire.SetRequest
	c := &cobra.Command{Use: "set ZONE NAME TYPE [DATA…]", Short: "Replace a record set and sync it, in one request; the draft is left alone", Args: cobra.MinimumNArgs(3),
		Long: "Replace a record set and sync it, in one request; the draft is left alone. Each DATA is the data of one record; the set has these\n" +
			"records afterwards and no others. It is made for scripts and certificate challenges.\n\n" +
			"Exit codes: 0 in sync, 1 a sync failed or is blocked, or nothing was accepted, 64 misuse.",
		Example: "  beacon record set saltmarsh-ferries.example _acme-challenge TXT gfj9Xq-Rg85nM --ttl 60\n" +
			"  beacon record set saltmarsh-ferries.example _acme-challenge TXT --remove",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, name, t, _, err := recordArgs(args[:3])
			switch {
			case err != nil:
				return misuse("%s", err)
			case remove == (len(args) > 3):
				return misuse("give the data of the set, or --remove")
			}
			r.Data = []string{}
			for _, text := range args[3:] {
				data, err := dataOf(t, text, nil, zone)
				if err != nil {
					return misuse("%s", err)
				}
				r.Data = append(r.Data, string(data))
			}
			if ttl != "" {
				if r.TTL, err = zonefile.ParseTTL(ttl); err != nil {
					return misuse("--ttl: %s", err)
				}
			}
			call := wire.PutSet
			if remove {
				call = wire.RemoveSet
			}
			owner := name.Relative(zone)
			if name == zone {
				owner = "@"
			}
			var out wire.SetWritten
			if err := askIf(a, call, tag, r, &out, zone, owner, t.String()); err != nil {
				return err
			}
			return a.followSet(zone.String(), out, r)
		}}
	c.Flags().StringVar(&ttl, "ttl", "", "such as 300 or 5m; else the TTL of the set, or the most common one of the zone")
	c.Flags().BoolVar(&remove, "remove", false, "remove the set")
	c.Flags().StringVar(&tag, "if-match", "", "only where the set still has this tag")
	c.Flags().StringVar(&r.Reason, "reason", "", "reason, kept with the revision")
	c.Flags().StringSliceVar(&r.Allow, "allow", nil, "allow this guard, by its code; may be repeated")
	c.Flags().BoolVar(&r.DryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&r.NoStart, "no-sync", false, "accept the set, and start no sync: live DNS stays as it is")
	return c
}

// setResult is what a change of one set came to.
type setResult struct {
	wire.SetWritten
	Ended []wire.SyncView `json:"ended"`
}

// followSet shows a change of one set, and follows its syncs.
func (a *app) followSet(zone string, out wire.SetWritten, r wire.SetRequest) error {
	name, err := parseName(zone)
	if err != nil {
		return err
	}
	if a.output == "table" {
		if out.Changed {
			a.showRecords(name, out.After.Records(), out.Before.Records())
		} else {
			a.printf("The set is as desired already.\n")
		}
		a.found(out.Findings)
	}
	if r.DryRun || r.NoStart {
		return a.show(out, func() {
			if r.DryRun {
				a.printf("Dry run: nothing changed.\n")
			} else {
				a.printf("Saved as revision %d. Live DNS is unchanged; sync it: beacon sync %s\n", out.Revision.Number, plain(name))
			}
		})
	}
	var follow []*pending
	for _, s := range out.Syncs {
		follow = append(follow, &pending{zone: name, account: s.Account, id: s.ID})
	}
	ended, err := a.endings(follow, syncOptions{allow: r.Allow})
	if err != nil {
		return err
	}
	failed := 0
	for _, s := range ended {
		if s.State != wire.SyncDone {
			failed++
		}
	}
	err = a.show(setResult{out, ended}, func() {
		for _, s := range ended {
			a.showEnding(s)
		}
		for _, w := range out.Waiting {
			a.printf("%s: %s The service syncs it afterwards.\n", w.Account, w.Problem)
		}
	})
	if err == nil && failed > 0 {
		err = exit{ExitFailed, ""}
	}
	return err
}
