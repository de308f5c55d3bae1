package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/wire"
)

// unlessMisuse has a command end with the code of what could not be compared.
func unlessMisuse(err error) error {
	var e exit
	if errors.As(err, &e) && e.code == ExitMisuse {
		return err
	}
	return exit{ExitUnknown, err.Error()}
}

func (a *app) diffCommand() *cobra.Command {
	var revert bool
	c := &cobra.Command{Use: "diff ZONE", Short: "Show differences between desired records and providers", Args: cobra.ExactArgs(1),
		Long: "Show differences between desired records and providers; foreign records do not count.\n\n" +
			"Exit codes: 0 no differences, 1 differences, 3 a provider could not be read, 64 misuse.",
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := a.differences(args[0], revert)
			if err != nil {
				return unlessMisuse(err)
			}
			differences := 0
			for _, d := range list {
				differences += len(d.Steps) + len(d.Drift) + len(d.Conflicts)
				if d.NewZone {
					differences++
				}
			}
			err = a.show(list, func() {
				for _, d := range list {
					a.showDifference(d)
				}
			})
			if err == nil && differences > 0 {
				err = exit{ExitFailed, ""}
			}
			return err
		}}
	c.Flags().BoolVar(&revert, "revert", false, "treat drift as changes to revert")
	return c
}

func (a *app) differences(zone string, revert bool) ([]wire.Difference, error) {
	name, err := parseName(zone)
	if err != nil {
		return nil, err
	}
	return all(a, wire.ListDifferences.With("revert", strconv.FormatBool(revert)), name)
}

// data prints what a set holds, without its name and type.
func data(s record.Set) string {
	texts := make([]string, len(s.Data))
	for i, d := range s.Data {
		texts[i] = string(d)
	}
	return fmt.Sprintf("%d  %s", s.TTL, strings.Join(texts, " | "))
}

func (a *app) showDifference(d wire.Difference) {
	add, alter, remove := change.List(d.Steps).Count()
	a.printf("%s at %s\n", a.paint(bold, plain(d.Zone)), d.Account)
	if d.NewZone {
		a.printf("  the zone is not there yet; it will be made\n")
	}
	for _, s := range d.Steps {
		label := s.Key().Name.Relative(d.Zone) + " " + s.Key().Type.String()
		if len(s.Attributes) > 0 && s.Before.Equal(s.After) || s.Key().Type == record.SOA { // its records stay, or are said by their fields
			for _, part := range strings.Split(s.Reason, "; ") {
				a.setLine(a.paint(amber, "~"), label, part)
			}
			continue
		}
		if !s.Before.IsZero() {
			a.setLine(a.paint(red, "-"), label, data(s.Before))
		}
		if !s.After.IsZero() {
			a.setLine(a.paint(green, "+"), label, data(s.After))
		}
	}
	for _, kind := range []struct {
		items  []diff.Item
		remedy string
	}{
		{d.Drift, "left as it is; revert with beacon sync --revert, or correct the definition"},
		{d.Conflicts, "stops the sync: correct the definition, or the record at the provider"},
		{d.Foreign, "left alone"},
	} {
		for _, item := range kind.items {
			a.printf("  %s %-24s %s\n", a.paint(amber, "!"), item.Key.Name.Relative(d.Zone)+" "+item.Key.Type.String(), item.Kind)
			a.printf("      desired %s\n      live    %s\n      %s; %s\n", dataOrNothing(item.Wanted), dataOrNothing(item.Live), item.Why, kind.remedy)
		}
	}
	a.printf("  %d to add, %d to change, %d to remove, in %s\n", add, alter, remove, count(d.Requests, "request"))
	a.printf("  %s in sync, %d drifted, %d in conflict, %d foreign\n", count(d.InSync, "set"), len(d.Drift), len(d.Conflicts), len(d.Foreign))
	list := append(append([]finding.Finding{}, d.Guards...), d.Notes...)
	a.shown = map[string]bool{}
	for _, f := range list {
		a.shown[f.Code+f.Subject] = true
	}
	a.findings(list)
}

func dataOrNothing(s record.Set) string {
	if s.IsZero() {
		return "nothing"
	}
	return data(s)
}

type syncOptions struct {
	yes, dryRun, revert bool
	allow               []string
	account             string
}

func (a *app) syncCommand() *cobra.Command {
	var opt syncOptions
	var follow, cancel uint64
	var reason string
	var only string
	var everything bool
	c := &cobra.Command{Use: "sync [ZONE]", Short: "Write a zone's desired records to its providers", Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case cancel > 0:
				return a.cancelSync(cancel, reason)
			case follow > 0:
				return a.follow(follow)
			case everything || only != "":
				if len(args) > 0 {
					return misuse("either a zone, or --all or --only")
				}
				return a.syncMany(only, opt)
			case len(args) == 0:
				return misuse("name the zone, or say --all, or --only PATTERN")
			}
			return a.syncZone(args[0], opt)
		}}
	c.Flags().BoolVar(&opt.yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&opt.dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&opt.revert, "revert", false, "revert changes made at the provider")
	c.Flags().StringSliceVar(&opt.allow, "allow", nil, "allow this guard, by its code; may be repeated")
	c.Flags().Uint64Var(&follow, "follow", 0, "follow a sync that is running, by its number")
	c.Flags().Uint64Var(&cancel, "cancel", 0, "cancel a sync that has not ended, by its number")
	c.Flags().StringVar(&reason, "reason", "", "with --cancel: why, for the logbook")
	c.Flags().BoolVar(&everything, "all", false, "every zone that needs a sync, by its last known state")
	c.Flags().StringVar(&only, "only", "", "every zone whose name matches, such as *.example")
	c.Flags().StringVar(&opt.account, "account", "", "only this placement")
	return c
}

// syncZone shows the change list of each placement, asks, and follows the syncs.
func (a *app) syncZone(zone string, opt syncOptions) error {
	list, err := a.differences(zone, opt.revert)
	if err != nil {
		return err
	}
	if a.output == "table" {
		for _, d := range list {
			if opt.account == "" || d.Account == opt.account {
				a.showDifference(d)
			}
		}
	}
	if opt.dryRun {
		return a.show(list, func() { a.printf("Dry run: nothing was changed.\n") })
	}
	if err := a.agreed(opt.yes, "Write this to the providers?"); err != nil {
		return err
	}
	name, err := parseName(zone)
	if err != nil {
		return err
	}
	for _, d := range list {
		if opt.account != "" && d.Account != opt.account {
			continue
		}
		body := wire.SyncRequest{Account: d.Account, Allow: opt.allow, Expect: d.Digest, Revert: opt.revert}
		var started wire.Page[wire.SyncView]
		if err := ask(a, wire.StartSync, body, &started, name); err != nil {
			return err
		}
		for _, s := range started.Items {
			if err := a.follow(s.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// cancelSync ends a sync that has not ended.
func (a *app) cancelSync(id uint64, reason string) error {
	var s wire.SyncView
	if err := ask(a, wire.CancelSync, wire.Cancellation{Reason: reason}, &s, id); err != nil {
		return err
	}
	return a.show(s, func() {
		a.printf("Sync %d of %s at %s: %s. %s\n", s.ID, plain(s.Zone), s.Account, s.State, s.Message)
		a.printf("The next sync continues from what is at the provider: beacon sync %s\n", plain(s.Zone))
	})
}

// follow shows how a sync goes on until it has ended.
func (a *app) follow(id uint64) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	something, broken := a.news(ctx, func(e wire.Entry) bool {
		return strings.HasPrefix(e.Action, "sync.") || strings.HasPrefix(e.Action, "records.")
	})
	var s wire.SyncView
	told, far := "", meter.New(a.err, fmt.Sprintf("sync %d, sets written", id))
	for {
		select {
		case <-something:
		case err := <-broken:
			return err
		}
		if err := ask(a, wire.ShowSync, wire.None{}, &s, id); err != nil {
			return err
		}
		if s.State.Ended() {
			break
		}
		far.At(int64(s.Added+s.Changed+s.Removed), int64(s.Total), "")
		if r := s.Retrying; r != nil && r.Problem != told {
			told = r.Problem
			far.Clear()
			fmt.Fprintf(a.err, "Sync %d waits for %s since %s, next try by %s: %s\nIt continues automatically; you can stop following. To cancel it: beacon sync --cancel %d\n",
				s.ID, s.Account, r.Since.Local().Format(time.TimeOnly), r.NextTry.Local().Format(time.TimeOnly), r.Problem, s.ID)
		}
	}
	far.Clear()
	if err := a.show(s, func() { a.showEnding(s) }); err != nil {
		return err
	}
	if s.State != wire.SyncDone {
		return exit{ExitFailed, ""}
	}
	return nil
}
