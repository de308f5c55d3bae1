package sync

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/provider"
	"beacon/service/zones"
	"beacon/store"
)

// mostAsked is how many of the changed sets each nameserver is asked for afterwards.
const mostAsked = 40

// waitServed asks the zone's nameservers until all of them give the new data. It gives how long that took since the
// last write, in real time, or -1 where it did not happen in time, and why.
func (s *Syncs) waitServed(ctx context.Context, run *syncRun, awaited []AwaitedHost, c comparison) (time.Duration, []finding.Finding) {
	start := time.Now()
	fail := func(message string) (time.Duration, []finding.Finding) {
		return -1, []finding.Finding{{Code: "not-served-yet", Severity: finding.Warning, Subject: run.Zone.Name().String(), Message: message,
			Remedy: "The provider has accepted the change. Check in a minute whether its nameservers serve it: beacon check."}}
	}
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	var p store.Placement
	var behind map[dnsname.Name]bool // what other accounts, which are not synced yet, list too
	if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if p, err = zones.PlacementByID(tx, run.Placement.ID); err == nil {
			behind, err = tx.NamesBehind(run.Zone.ID, run.Placement.ID)
		}
		return err
	}); err != nil {
		return fail("The database did not answer: " + err.Error())
	}
	run.Placement.Nameservers = p.Nameservers
	servers, problems := s.serversOf(ctx, run.Place)
	if len(problems) > 0 {
		return fail(fmt.Sprintf("%s has no address: %s.", problems[0].Name, problems[0].Problem))
	}
	all := s.reachable(servers)
	own := provider.At(run.Driver)
	servers = slices.DeleteFunc(slices.Clone(all), func(server evidence.Server) bool {
		return server.Address != own && (behind[server.Name] || own != "" && behind[dnsname.Name{}])
	})
	steps := slices.Clone(run.applied[max(0, len(run.applied)-mostAsked):])
	for _, h := range awaited {
		for _, set := range h.sets {
			steps = append(steps, change.Step{Before: set, After: set})
		}
	}
	// Behind a relay the nameservers answer with something of the provider's own, whatever was written.
	steps = slices.DeleteFunc(steps, func(step change.Step) bool { return run.Caps.Relayed(c.details[step.Key()].Attributes) })
	for _, server := range servers {
		for _, step := range steps {
			for !diff.Served(s.sweeper.AskSet(ctx, server, step.Key()), step) {
				if clock.Pause(ctx, 50*time.Millisecond) != nil {
					return fail(fmt.Sprintf("%s (%s) does not serve %s as written yet.", strings.TrimSuffix(server.Name.String(), "."), server.Address, step.Key()))
				}
			}
		}
	}
	if len(servers) < len(all) {
		return -1, nil
	}
	return time.Since(start), nil
}

// serversOf returns the nameservers of a placement with their addresses.
func (s *Syncs) serversOf(ctx context.Context, p Place) (list []evidence.Server, problems []evidence.NameProblem) {
	if known, ok := p.Driver.(provider.Server); ok {
		for i, address := range known.Servers() {
			names := p.Placement.Names()
			list = append(list, evidence.Server{Name: names[min(i, len(names)-1)], Address: address})
		}
	}
	if len(list) > 0 {
		return list, nil
	}
	return s.sweeper.Servers(ctx, p.Placement.Names())
}

// reachable returns the servers without those that a machine without IPv6 cannot ask.
func (s *Syncs) reachable(servers []evidence.Server) []evidence.Server {
	return slices.DeleteFunc(servers, func(server evidence.Server) bool {
		at, err := netip.ParseAddrPort(server.Address)
		return err == nil && at.Addr().Is6() && !s.door.Leads(at)
	})
}
