package handover

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/provider"
	"beacon/service/delegate"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/wire"
)

// What a forecast assumes where the request does not say.
const (
	usualGrace   = 7 * 24 * time.Hour
	usualPublish = 5 * time.Minute
	mostForecast = 10 * 365 * 24 * time.Hour // of each of them
)

// Forecast returns the timetable of a handover, from what the servers answer now. It changes nothing.
func (s *Handover) Forecast(ctx context.Context, by access.Caller, r wire.ForecastRequest) (out wire.Forecast, err error) {
	if err := wire.Permit(by, access.See, access.Zone(r.Domain)); err != nil {
		return out, err
	}
	grace, err := span("grace", r.Grace, usualGrace)
	if err != nil {
		return out, err
	}
	publish, err := span("publish", r.Publish, usualPublish)
	if err != nil {
		return out, err
	}
	calendar, err := s.settings.Calendar(r.Window, r.Timezone)
	if err != nil {
		return out, err
	}
	if r.To != "" {
		if r.Nameservers, err = s.assignedAt(ctx, r); err != nil {
			return out, err
		}
	}
	looked, err := s.delegations.Look(ctx, wire.DelegateRequest{Domain: r.Domain, Nameservers: r.Nameservers, Agree: r.Agree}, nil)
	if err != nil {
		return out, logbook.Explain(err)
	}
	target := looked.Target
	course := handover.Course{Domain: r.Domain, Old: looked.Parent, New: target, KeepOld: r.KeepOld, Sign: r.Sign, Grace: grace, Agreed: r.Agree}
	if delegation.SameSet(looked.Parent, target) {
		if looked.History.Former == nil {
			return out, wire.Problemf(wire.Blocked, "The nameservers of %s are active already, and no change is settling. Name others: --nameservers.", r.Domain.Unicode())
		}
		course.Old = looked.History.Former.Set
	}
	places, err := s.syncs.PlacesOf(ctx, r.Domain)
	if err != nil {
		return out, err
	}
	old := placeOf(places, course.Old, target)
	course.OldHere = old != ""
	if course.OldTells, err = s.tells(ctx, r.Domain, old); err != nil {
		return out, err
	}
	evident, err := s.evident(ctx, looked, course)
	if err != nil {
		return out, err
	}
	evident.OldPlaced = course.OldHere
	if account := placeOf(places, target, course.Old); account != "" { // a sync makes its nameservers ready
		for _, a := range evidence.ServersOf(looked.Sweep, target) {
			if a.Answer != evidence.Positive {
				evident.Behind = []string{account}
			}
		}
	}
	stations := handover.Forecast(course, evident, publish, calendar)
	out = wire.Forecast{Domain: r.Domain, Registrar: looked.Place, Old: course.Old, New: target, Now: looked.Sweep.Ended, Steps: []wire.ForecastStep{}, Closed: []finding.Finding{}}
	out.Steps = timetable(stations, r, looked, old)
	last := stations[len(stations)-1]
	if last.Phase == handover.Done {
		out.Ends = last.At
	}
	out.Closed = append(out.Closed, last.Closed...)
	out.Next = nextOf(out)
	return out, nil
}

// assignedAt returns the nameservers that an account has for a zone.
func (s *Handover) assignedAt(ctx context.Context, r wire.ForecastRequest) ([]string, error) {
	if len(r.Nameservers) > 0 {
		return nil, wire.Problemf(wire.Invalid, "Name an account (--to) or nameservers (--nameservers), not both.")
	}
	driver, err := s.driverOf(ctx, r.To)
	if err != nil {
		return nil, err
	}
	zone, there, err := provider.FindZone(ctx, driver, r.Domain)
	if err != nil {
		return nil, logbook.Explain(err)
	}
	if !there {
		return nil, wire.Problemf(wire.Blocked, "%s does not have %s yet, so its nameservers are not known. See the steps: beacon handover begin %s --to %s --dry-run.", r.To, r.Domain.Unicode(), r.Domain.Unicode(), r.To)
	}
	return asTyped(zone.Nameservers), nil
}

// span returns an amount of seconds that a request names, or the usual one.
func span(field string, seconds *int64, usual time.Duration) (time.Duration, error) {
	if seconds == nil {
		return usual, nil
	}
	if *seconds < 0 || *seconds > int64(mostForecast/time.Second) {
		return 0, wire.Problemf(wire.Invalid, "%s is %d: it has to be between 0 and %d seconds.", field, *seconds, int64(mostForecast/time.Second))
	}
	return time.Duration(*seconds) * time.Second, nil
}

// placeOf returns the account whose nameservers are on one side, and not on the other; empty for none.
func placeOf(places []sync.Place, side, other []dnsname.Name) string {
	for _, p := range places {
		if slices.ContainsFunc(p.Placement.Names(), func(n dnsname.Name) bool { return slices.Contains(side, n) && !slices.Contains(other, n) }) {
			return p.Account.Name
		}
	}
	return ""
}

// evident is the evidence of a look that a decision or a forecast is made from, but for what is known of the placements.
func (s *Handover) evident(ctx context.Context, looked delegate.Sight, course handover.Course) (e handover.Seen, err error) {
	e = handover.Seen{Sweep: looked.Sweep, History: looked.History, Registration: looked.Registration, Differences: looked.Differences, Margin: s.checks.Margin(), NoIPv6: s.checks.WithoutIPv6()}
	desired, err := s.zones.WantedAddresses(ctx, access.Service, course.Domain)
	if err != nil {
		return e, err
	}
	for _, r := range desired.Records() {
		e.LargestTTL = max(e.LargestTTL, r.TTL)
	}
	for _, a := range looked.Sweep.Servers {
		e.LargestTTL = max(e.LargestTTL, a.NSTTL, a.SOA.Negative)
		for _, set := range a.Sets {
			e.LargestTTL = max(e.LargestTTL, set.TTL)
		}
		for _, rr := range a.Keys {
			e.LargestTTL = max(e.LargestTTL, rr.Header().Ttl)
		}
	}
	return e, nil
}

// timetable returns the stations as steps, each with what it is and the command that does it.
func timetable(stations []handover.Station, r wire.ForecastRequest, looked delegate.Sight, old string) (steps []wire.ForecastStep) {
	steps = []wire.ForecastStep{}
	said := map[handover.Wait]bool{}
	for i, s := range stations {
		for _, do := range s.Do {
			text, command := actText(do, r, looked, old)
			steps = append(steps, wire.ForecastStep{At: s.At, Phase: s.Phase, Do: do, Text: text, Command: command})
		}
		for _, w := range s.Wait {
			if said[w] || len(s.Do) > 0 && w.Until.IsZero() && i+1 < len(stations) {
				continue // it is said already, or what is done brings it
			}
			said[w] = true
			steps = append(steps, wire.ForecastStep{At: s.At, Until: w.Until, Phase: s.Phase, Text: "Wait until " + w.For})
		}
		if s.Phase == handover.Done {
			steps = append(steps, wire.ForecastStep{At: s.At, Phase: s.Phase, Text: "The handover is done"})
		}
	}
	return steps
}

// actText returns what an act is in words, and the command that does it.
func actText(do handover.Do, r wire.ForecastRequest, looked delegate.Sight, old string) (text, command string) {
	domain, holder, named := r.Domain.Unicode(), "at "+looked.Place, ""
	if looked.ByHand {
		holder = "at the registrar, by hand,"
	}
	if len(r.Nameservers) > 0 {
		named = " --nameservers " + strings.ReplaceAll(dnsname.ShortList(looked.Target), ", ", ",")
	}
	switch do {
	case handover.DoSync:
		return "Sync the zone to the new provider", "beacon sync " + domain
	case handover.DoRemoveDS:
		return "Remove the DS " + strings.TrimSuffix(holder, ","), "beacon ds remove " + domain
	case handover.DoDelegate:
		return fmt.Sprintf("Change the nameservers %s to %s", holder, dnsname.ShortList(looked.Target)), "beacon delegate " + domain + named
	case handover.DoTellOld:
		return "Write the new NS records into the old zone at " + old, ""
	case handover.DoAddDS:
		return "Publish the DS of the new zone " + strings.TrimSuffix(holder, ","), "beacon ds publish " + domain
	case handover.DoRetire:
		return "Remove the old zone from " + old, fmt.Sprintf("beacon zone retire %s --account %s", domain, old)
	}
	return string(do), ""
}

// nextOf is what to do now.
func nextOf(f wire.Forecast) string {
	if len(f.Closed) > 0 {
		return "A gate is closed that the handover cannot open by itself. Nothing was changed. " + f.Closed[0].Remedy
	}
	for _, s := range f.Steps {
		if s.Command != "" && !s.At.After(f.Now) {
			return "This is a forecast. Nothing was changed. Begin with: " + s.Command
		}
	}
	if f.Ends.IsZero() {
		return "This is a forecast. Nothing was changed. When the last of these waits ends is not known yet: repeat it once it has."
	}
	return "This is a forecast. Nothing was changed."
}
