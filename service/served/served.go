// Package served asks the nameservers of a placement: whether they serve what was written, and whether they agree with what was read at the provider. It holds
// nothing and changes nothing.
package served

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
	"beacon/reach"
	"beacon/resolve"
)

// mostAsked is how many of the changed sets each nameserver is asked for afterwards.
const mostAsked = 40

// askPause is how long a nameserver is left alone that does not serve something yet, real time.
const askPause = 50 * time.Millisecond

// Servers asks nameservers. It is safe for concurrent use.
type Servers struct {
	Sweeper *resolve.Sweeper
	Door    *reach.Door
	Timeout time.Duration // of all questions of one call, real time
}

// Placement is whose nameservers are asked.
type Placement struct {
	Zone        dnsname.Name
	Nameservers []dnsname.Name
	Driver      provider.Driver
	Behind      map[dnsname.Name]bool // nameservers that other accounts list, too, which are not synced yet; the zero Name for those that are not known
}

// Wait asks the nameservers until all of them serve what steps leave behind, the last of them where there are many. It returns how long that took, in real time, or
// -1 where it did not happen in time, and why.
func (s Servers) Wait(ctx context.Context, p Placement, steps change.List) (time.Duration, []finding.Finding) {
	start := time.Now()
	fail := func(message string) (time.Duration, []finding.Finding) {
		return -1, []finding.Finding{{Code: "not-served-yet", Severity: finding.Warning, Subject: p.Zone.String(), Message: message,
			Remedy: "The provider has accepted the change. Check in a minute whether its nameservers serve it: beacon check."}}
	}
	ctx, cancel := context.WithTimeout(ctx, s.Timeout)
	defer cancel()
	all, problems := s.of(ctx, p)
	if len(problems) > 0 {
		return fail(fmt.Sprintf("%s has no address: %s.", problems[0].Name, problems[0].Problem))
	}
	own := provider.At(p.Driver)
	synced := slices.DeleteFunc(slices.Clone(all), func(server evidence.Server) bool {
		return server.Address != own && (p.Behind[server.Name] || own != "" && p.Behind[dnsname.Name{}])
	})
	for _, server := range synced {
		for _, step := range steps {
			for !diff.Served(s.Sweeper.AskSet(ctx, server, step.Key()), step) {
				if clock.Pause(ctx, askPause) != nil {
					return fail(fmt.Sprintf("%s (%s) does not serve %s as written yet.", strings.TrimSuffix(server.Name.String(), "."), server.Address, step.Key()))
				}
			}
		}
	}
	if len(synced) < len(all) {
		return -1, nil
	}
	return time.Since(start), nil
}

// Few returns the last steps, as many as nameservers are asked for.
func Few(steps change.List) change.List {
	return slices.Clone(steps[max(0, len(steps)-mostAsked):])
}

// Hear asks the nameservers about a read that is in doubt.
func (s Servers) Hear(ctx context.Context, p Placement, doubts []diff.Doubt) diff.Verdict {
	ctx, cancel := context.WithTimeout(ctx, s.Timeout)
	defer cancel()
	servers, problems := s.of(ctx, p)
	var heard []diff.Heard
	for _, server := range servers {
		for _, d := range doubts {
			heard = append(heard, diff.Heard{Server: strings.TrimSuffix(server.Name.String(), ".") + " (" + server.Address + ")", Doubt: d, Answer: s.Sweeper.AskSet(ctx, server, d.Key)})
		}
	}
	v := diff.Weigh(heard)
	if len(servers) == 0 && len(problems) > 0 && len(doubts) > 0 { // its names have no address: nobody was asked
		v.Silent = slices.ContainsFunc(problems, func(n evidence.NameProblem) bool { return n.Kind == evidence.NameNotLooked })
	}
	return v
}

// of returns the nameservers of a placement with their addresses, without those that a machine without IPv6 cannot ask.
func (s Servers) of(ctx context.Context, p Placement) (list []evidence.Server, problems []evidence.NameProblem) {
	if known, ok := p.Driver.(provider.Server); ok {
		for i, address := range known.Servers() {
			list = append(list, evidence.Server{Name: p.Nameservers[min(i, len(p.Nameservers)-1)], Address: address})
		}
	}
	if len(list) == 0 {
		list, problems = s.Sweeper.Servers(ctx, p.Nameservers)
	}
	return slices.DeleteFunc(list, func(server evidence.Server) bool {
		at, err := netip.ParseAddrPort(server.Address)
		return err == nil && at.Addr().Is6() && !s.Door.Leads(at)
	}), problems
}
