package cli

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/zonefile"
	"beacon/wire"
)

// Rehearsal is a handover that is played through in a practice world of its own.
type Rehearsal struct {
	Domain        dnsname.Name
	Zone          string // its records, as a zone file
	DelegationTTL uint32 // seconds, of the NS set at the parent; 0 where it is not known
	NSTTL         uint32 // seconds, of the apex NS set; 0 where it is not known
	Signed        bool   // the parent has a DS now
	Sign, Lower   bool
	Grace         time.Duration
}

// AddRehearse adds the command that rehearses handovers to a root command of New. run plays one through, and says on out what happens.
func AddRehearse(root *cobra.Command, run func(ctx context.Context, r Rehearsal, out io.Writer) error) {
	a, ours := root.Context().Value(appKey{}).(*app)
	if !ours {
		return
	}
	for _, c := range root.Commands() {
		if c.Name() == "handover" {
			c.AddCommand(a.handoverRehearseCommand(run))
		}
	}
}

func (a *app) handoverRehearseCommand(run func(context.Context, Rehearsal, io.Writer) error) *cobra.Command {
	r := Rehearsal{Grace: 7 * 24 * time.Hour}
	c := &cobra.Command{Use: "rehearse DOMAIN", Short: "Play a handover through in a practice world on this machine", Args: cobra.ExactArgs(1),
		Long: "Starts a practice world, a database and a service of their own on this machine's loopback, with the records and the TTLs of the domain under a\n" +
			"name of its own, and moves it there with a clock that skips what has to be waited for. Resolvers are asked for its records all the while.\n" +
			"The real domain is not touched: only its records and its last check are read.",
		Example: "  beacon handover rehearse saltmarsh-ferries.example --sign",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			if err := a.rehearsed(name, &r); err != nil {
				return err
			}
			return run(cmd.Context(), r, a.out)
		}}
	c.Flags().BoolVar(&r.Sign, "sign", false, "the new zone is signed, and gets a DS at the end")
	c.Flags().BoolVar(&r.Lower, "lower-ttls", false, "lower TTLs before the move, and restore them at its end")
	c.Flags().DurationVar(&r.Grace, "grace", r.Grace, "how long the old zone stays once the change has settled")
	return c
}

// rehearsed reads the records and the last check of a domain.
func (a *app) rehearsed(name dnsname.Name, r *Rehearsal) error {
	list, err := all(a, wire.ListRecords.With("addresses", "true"), name)
	if err != nil {
		return err
	}
	c := record.NewContents(list).Filter(func(k record.Key) bool { return !gather.Plumbing(name, k) })
	if c.Len() == 0 {
		return exit{ExitFailed, plain(name) + " has no desired records. Find them first: beacon zone gather " + plain(name)}
	}
	r.Domain, r.Zone = name, zonefile.Text(name, c)
	var report delegation.Report
	if err := ask(a, wire.ShowReport, wire.None{}, &report, name); err != nil {
		if strings.Contains(err.Error(), "not checked") {
			return nil
		}
		return err
	}
	for _, p := range report.Parents {
		r.DelegationTTL, r.Signed = max(r.DelegationTTL, p.TTL), r.Signed || p.Signed
	}
	for _, s := range report.Servers {
		r.NSTTL = max(r.NSTTL, s.TTL)
	}
	return nil
}
