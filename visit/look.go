package visit

import (
	"context"
	"sync"

	"beacon/core/dnsname"
	"beacon/core/evidence"
)

// Beyond asks where a name leads that lies outside the domain that is looked at.
type Beyond interface {
	Beyond(ctx context.Context, name dnsname.Name) evidence.Beyond
}

// mostBeyond bounds how many names outside the domain are followed.
const mostBeyond = 8

// Look adds to a sweep what is to be seen of the domain's sites: where aliases lead that leave the domain, and what answers
// at every address that a nameserver or a resolver leads to. wanted is the nameservers that shall answer; empty: those active.
func (v *Visitor) Look(ctx context.Context, beyond Beyond, sweep *evidence.Sweep, sites, wanted []dnsname.Name) {
	if sweep.Failure != "" {
		return
	}
	sweep.Sites = sites
	seen := map[dnsname.Name]bool{}
	for _, site := range sites {
		for _, name := range sweep.Aliases(site) {
			if !seen[name] && len(sweep.Beyond) < mostBeyond {
				seen[name] = true
				sweep.Beyond = append(sweep.Beyond, evidence.Beyond{Name: name})
			}
		}
	}
	var group sync.WaitGroup
	for i := range sweep.Beyond {
		group.Go(func() { sweep.Beyond[i] = beyond.Beyond(ctx, sweep.Beyond[i].Name) })
	}
	group.Wait()
	var targets []Target
	for _, site := range sites {
		targets = append(targets, Target{site, sweep.Targets(site, wanted)})
	}
	sweep.Contacts = v.Visit(ctx, targets)
}
