package cli

import (
	"errors"
	"fmt"
	"path"
	"time"

	"beacon/cli/meter"
	"beacon/core/dnsname"
	"beacon/wire"
)

// atATime is how many zones are under way side by side.
const atATime = 16

// pending is one zone's placement on its way through a sync of many.
type pending struct {
	zone    dnsname.Name
	account string
	id      uint64
	done    wire.SyncView
	since   time.Time // when it was first found that something is in its way
}

// syncMany makes the providers of many zones hold what they should, and shows how far it is. Zones whose guards speak are
// held and told at the end; the others go on.
func (a *app) syncMany(only string, opt syncOptions) error {
	if _, err := path.Match(only, "x"); err != nil {
		return misuse("--only: %q is no pattern; write it like *.example", only)
	}
	standings, err := all(a, wire.ListPlacements)
	if err != nil {
		return err
	}
	var list []*pending
	for _, s := range standings {
		fits, _ := path.Match(only, plain(s.Zone))
		if (only == "" || fits) && (opt.account == "" || s.Account == opt.account) {
			list = append(list, &pending{zone: s.Zone, account: s.Account})
		}
	}
	if len(list) == 0 {
		return exit{ExitFailed, "no zone fits"}
	}
	if opt.dryRun {
		return a.show(list, func() {
			for _, p := range list {
				a.printf("%s at %s\n", plain(p.zone), p.account)
			}
			a.printf("Dry run: %s would be compared and written where they differ; see each with beacon diff.\n", count(len(list), "placement"))
		})
	}
	if err := a.agreed(opt.yes, fmt.Sprintf("Sync %s?", count(len(list), "placement"))); err != nil {
		return err
	}
	return a.runMany(list, opt)
}

func (a *app) runMany(list []*pending, opt syncOptions) error {
	started, far := time.Now(), meter.New(a.err, "syncs")
	var views []wire.SyncView
	underway, next := []*pending{}, 0
	for len(views) < len(list) {
		for len(underway) < atATime && next < len(list) {
			p := list[next]
			next++
			if err := a.startOne(p, opt); err != nil {
				var known *problem
				if !errors.As(err, &known) {
					return err
				}
				p.done = wire.SyncView{Zone: p.zone, Account: p.account, State: wire.SyncBlocked, Message: known.Detail}
				views = append(views, p.done)
				continue
			}
			underway = append(underway, p)
		}
		still := underway[:0:0]
		for _, p := range underway {
			if err := ask(a, wire.ShowSync, wire.None{}, &p.done, p.id); err != nil {
				return err
			}
			if p.done.State.Ended() {
				views = append(views, p.done)
			} else {
				still = append(still, p)
			}
		}
		underway = still
		far.At(int64(len(views)), int64(len(list)), "")
		if len(underway) > 0 {
			time.Sleep(60 * time.Millisecond)
		}
	}
	far.Clear()
	failed := 0
	err := a.show(views, func() { failed = a.showMany(views, time.Since(started)) })
	if err == nil && failed > 0 {
		return exit{ExitFailed, ""}
	}
	return err
}

func (a *app) startOne(p *pending, opt syncOptions) error {
	var got wire.Page[wire.SyncView]
	body := wire.SyncRequest{Account: p.account, Allow: opt.allow, Revert: opt.revert}
	if err := ask(a, wire.StartSync, body, &got, p.zone); err != nil {
		return err
	}
	p.id = got.Items[0].ID
	return nil
}

// showMany prints what became of many syncs: a line for each that needs somebody, and one for all the others.
func (a *app) showMany(views []wire.SyncView, took time.Duration) (troubled int) {
	fine, requests, sets := 0, 0, 0
	for _, v := range views {
		requests += v.Requests
		sets += v.Added + v.Changed + v.Removed
		if v.State == wire.SyncDone {
			fine++
			continue
		}
		troubled++
		a.printf("%s at %s: %s. %s\n", a.paint(bold, plain(v.Zone)), v.Account, v.State, v.Message)
		a.findings(v.Findings)
	}
	a.printf("%d of %s done in %s: %s written in %s.\n", fine, count(len(views), "placement"), took.Round(100*time.Millisecond), count(sets, "set"), count(requests, "request"))
	return troubled
}
