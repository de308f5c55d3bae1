package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"beacon/cli/meter"
	"beacon/core/delegation"
	"beacon/wire"
)

// brief starts a brief check of all domains, and shows those that are not settled.
func (a *app) briefCheck(ctx context.Context) error {
	var g wire.BriefChecks
	if err := ask(a, wire.StartBriefCheck, wire.None{}, &g); err != nil {
		return err
	}
	show := wire.ShowBriefCheck.With("since", g.Since.Format(time.RFC3339Nano))
	far := meter.New(a.err, "brief checks")
	for last := time.Now(); g.Ended == nil; {
		far.At(int64(g.Looked), int64(g.Domains), "")
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		before := g.Looked
		if err := ask(a, show, wire.None{}, &g); err != nil {
			return err
		}
		if g.Looked > before {
			last = time.Now()
		}
		if time.Since(last) > time.Minute {
			far.Clear()
			return exit{ExitUnknown, fmt.Sprintf("%d of %d domains were looked at, and for a minute none more: see the service's log, and whether its network works", g.Looked, g.Domains)}
		}
	}
	far.Clear()
	worst := ExitFine
	for v := range g.Verdicts {
		worst = graver(worst, exitCode(v))
	}
	err := a.show(g, func() {
		for _, d := range g.Items {
			a.printf("%-12s %-40s %s\n", d.Verdict, plain(d.Name), d.Gravest)
		}
		var parts []string
		for _, v := range []delegation.Verdict{delegation.Settled, delegation.Settling, delegation.ReadyToMove, delegation.NeedsAction, delegation.Undelegated, delegation.Unknown} {
			if n := g.Verdicts[v]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, v))
			}
		}
		if g.Domains == 0 {
			parts = []string{"there is none yet"}
		}
		a.printf("Brief check of %d domains: %s. Domains whose state changed are being checked.\n", g.Domains, strings.Join(parts, ", "))
	})
	if err != nil {
		return err
	}
	return codeOnly(worst)
}
