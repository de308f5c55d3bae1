package hosts

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/record"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Written notes which reports are at the provider by the steps that were done.
func (s *Hosts) Written(tx *store.Tx, placementID uint64, hosts []store.Host, done change.List) error {
	for _, h := range hosts {
		if h.ReportID == nil || h.Unspread {
			continue
		}
		for _, step := range done {
			if k := step.Key(); k.Name == h.Name() && (k.Type == record.A || k.Type == record.AAAA) {
				if err := tx.ReportWritten(*h.ReportID, placementID); err != nil {
					return err
				}
				break
			}
		}
	}
	return nil
}

// Visible notes which reports every nameserver of the placement serves now. Caches let go of what was before
// within its TTL.
func (s *Hosts) Visible(tx *store.Tx, placementID uint64, account string, awaited []sync.AwaitedHost, applied change.List) error {
	for _, a := range awaited {
		longest := a.Host.TTL
		for _, step := range applied {
			if step.Key().Name == a.Host.Name() {
				longest = max(longest, step.Before.TTL)
			}
		}
		settles := s.world.Now().Add(time.Duration(longest) * time.Second)
		if err := tx.ReportVisible(*a.Host.ReportID, placementID, settles); err != nil {
			return err
		}
		name := a.Host.Name().String()
		if err := logbook.Log(tx, "host "+name, "host.visible", name, fmt.Sprintf("%s at every nameserver of %s", addressText(a.Host.At()), account)); err != nil {
			return err
		}
	}
	return nil
}

// Invisible returns the reports that are written to a placement and were not seen at its nameservers yet.
func (s *Hosts) Invisible(tx *store.Tx, placementID uint64) (map[uint64]bool, error) {
	return tx.Invisible(placementID)
}

// How long after a report it is looked again whether the nameservers serve it, where they did not: as long as that is ago, within limits, real time.
const (
	firstSeeAgain = 2 * time.Second
	lastSeeAgain  = time.Hour
)

// Unseen has it looked later whether the nameservers of a placement serve what hosts reported.
func (s *Hosts) Unseen(tx *store.Tx, placementID uint64, awaited []sync.AwaitedHost) error {
	if len(awaited) == 0 {
		return nil
	}
	since, err := tx.AcceptedSince(placementID)
	if err != nil || since == nil {
		return err
	}
	now := s.store.Now()
	return jobs.Enqueue(tx, store.JobSee, placementID, now.Add(min(max(now.Sub(*since), firstSeeAgain), lastSeeAgain)))
}

// RunSee asks for a sync of the hosts at a placement where reports are not known to be visible: it looks at its nameservers, and writes what is still to be written.
func (s *Hosts) RunSee(ctx context.Context, job store.Job) error {
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		invisible, err := tx.Invisible(job.Subject)
		if err != nil || len(invisible) == 0 {
			return err
		}
		p, err := zones.PlacementByID(tx, job.Subject)
		if err != nil {
			return err
		}
		return sync.AwaitHosts(tx, access.Service.Name, p)
	})
	if store.IsMissing(err) { // the placement was removed
		return nil
	}
	s.jobs.Wake(store.JobUrgent)
	return err
}

// unwrittenAfter is how old a report is before it counts as one that could not be written, real time.
const unwrittenAfter = 15 * time.Second

// Unwritten returns the hosts of a zone whose last report could not be written to one of its providers: the last attempt failed, or it is under way for long.
func Unwritten(tx *store.Tx, zone uint64, now time.Time) (out []wire.UnwrittenHost, err error) {
	out = []wire.UnwrittenHost{}
	list, err := zones.HostsOf(tx, zone)
	if err != nil {
		return out, err
	}
	byReport := map[uint64]store.Host{}
	var ids []uint64
	for _, h := range list {
		if h.ReportID != nil && !h.Unspread {
			byReport[*h.ReportID] = h
			ids = append(ids, *h.ReportID)
		}
	}
	arrivals, err := tx.Arrivals(ids)
	if err != nil {
		return out, err
	}
	arrivals = slices.DeleteFunc(arrivals, func(a store.Arrival) bool { return a.WrittenAt != nil })
	ids = ids[:0]
	for _, a := range arrivals {
		ids = append(ids, a.ReportID)
	}
	reports, err := tx.ReportsByID(ids)
	if err != nil {
		return out, err
	}
	for _, a := range arrivals {
		h, r := byReport[a.ReportID], reports[a.ReportID]
		problem, err := lastProblem(tx, a.PlacementID, r)
		if err != nil {
			return out, err
		}
		if problem != "" || now.Sub(r.ReportedAt) > unwrittenAfter {
			out = append(out, wire.UnwrittenHost{Host: h.Name(), Account: a.Account, Address: strings.TrimSpace(r.V4 + " " + r.V6), Since: r.ReportedAt, Problem: problem})
		}
	}
	return out, nil
}
