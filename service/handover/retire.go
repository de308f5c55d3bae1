package handover

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/outcall"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// The codes of the guards before a zone is taken from a provider.
const (
	GuardStillDelegated = "zone-still-delegated" // the parent leads there
	GuardStillAsked     = "zone-still-asked"     // caches may still lead there
)

// Retire takes a zone from a provider, and what is known of it there. While the parent or caches may lead to its
// nameservers there, a person has to say yes.
func (s *Handover) Retire(ctx context.Context, r wire.RetireRequest) (out wire.Retired, err error) {
	out = wire.Retired{Zone: r.Zone, Account: r.Account, Left: []string{}, Guards: []finding.Finding{}}
	places, err := s.syncs.PlacesOf(ctx, r.Zone)
	if err != nil {
		return out, err
	}
	at := slices.IndexFunc(places, func(p sync.Place) bool { return p.Account.Name == r.Account })
	if at < 0 {
		return out, wire.Problemf(wire.Missing, "Zone %s is not placed at %s.", r.Zone.Unicode(), r.Account)
	}
	p := places[at]
	for i, other := range places {
		if i != at {
			out.Left = append(out.Left, other.Account.Name)
		}
	}
	if p.Placement.RemoteID != "" {
		report, err := s.checks.Check(ctx, r.Zone)
		if err != nil {
			return out, err
		}
		out.Guards = retireGuards(r, p.Placement.Names(), report)
	}
	if r.DryRun {
		return out, nil
	}
	speaking := slices.DeleteFunc(slices.Clone(out.Guards), func(f finding.Finding) bool { return slices.Contains(r.Allow, f.Code) })
	if len(speaking) > 0 {
		return out, &wire.Problem{Kind: wire.InTheWay, Message: "A guard stopped this; nothing was changed.", Findings: speaking}
	}
	if p.Placement.RemoteID != "" && !r.Keep {
		calling, cancel := context.WithTimeout(ctx, s.timeout)
		defer cancel()
		if err := p.Driver.Remove(calling, p.Ref()); err != nil && outcall.KindOf(err) != outcall.NotFound {
			return out, logbook.Explain(err)
		}
		out.Removed = true
	}
	return out, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.Lock(tx, r.Zone)
		if err != nil {
			return err
		}
		if running, err := sync.Unfinished(tx, p.Placement.ID); err != nil || running.ID != 0 {
			if err == nil {
				err = wire.Problemf(wire.InTheWay, "Sync %d of %s at %s has not ended. Wait for it, then ask again.", running.ID, r.Zone.Unicode(), r.Account)
			}
			return err
		}
		if err := zones.RemovePlacement(tx, p.Placement.ID); err != nil {
			return err
		}
		if len(out.Left) > 0 {
			if err := s.WantPlacements(tx, z.ID); err != nil {
				return err
			}
		}
		what := "removed from " + r.Account
		if !out.Removed {
			what = "no longer looked after at " + r.Account
		}
		return logbook.Log(tx, logbook.Actor(ctx), "zone.retired", r.Zone.String(), what)
	})
}

// retireGuards says who may still be led to the nameservers that would stop answering.
func retireGuards(r wire.RetireRequest, names []dnsname.Name, report delegation.Report) (found []finding.Finding) {
	found = []finding.Finding{}
	if r.Keep { // they go on answering
		return found
	}
	leads := func(sources []delegation.Source) bool {
		return slices.ContainsFunc(sources, func(source delegation.Source) bool {
			return slices.ContainsFunc(source.Nameservers, func(n dnsname.Name) bool { return slices.Contains(names, n) })
		})
	}
	asked := slices.ContainsFunc(report.Parents, func(source delegation.Source) bool { return len(source.Nameservers) > 0 })
	say := func(code string, severity finding.Severity, message, remedy string) {
		found = append(found, finding.Finding{Code: code, Severity: severity, Subject: r.Zone.Unicode(), Message: message,
			Remedy: remedy + " If it is meant all the same, say yes to this guard (--allow " + code + ")."})
	}
	text := make([]string, len(names))
	for i, n := range names {
		text[i] = strings.TrimSuffix(n.String(), ".")
	}
	switch {
	case leads(report.Parents):
		say(GuardStillDelegated, finding.Error, fmt.Sprintf("The parent leads to nameservers of this account (%s): the domain would not be answered any more there.", strings.Join(text, ", ")),
			"Delegate it elsewhere first (beacon delegate), and wait until it has settled.")
	case !asked && report.Verdict == delegation.Unknown:
		say(GuardStillDelegated, finding.Error, "It could not be seen where the parent leads.", "Check again when the parent answers (beacon check).")
	case report.SettlesBy != nil && slices.ContainsFunc(report.Old, func(n dnsname.Name) bool { return slices.Contains(names, n) }):
		say(GuardStillAsked, finding.Warning, fmt.Sprintf("Caches may still lead to the old nameservers until %s.", report.SettlesBy.UTC().Format("2006-01-02 15:04:05")),
			"Wait until then.")
	}
	return found
}
