package handover

import (
	"context"
	"slices"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/provider"
	"beacon/service/check"
	"beacon/service/delegate"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// mostOthers is how many domains with nameservers below this one are named.
const mostOthers = 20

// hanging returns what else hangs on the old side. Once the nameservers have changed it is too late to ask.
func (s *Handover) hanging(ctx context.Context, looked delegate.Sight, course handover.Course) ([]finding.Finding, error) {
	a := handover.Around{Domain: course.Domain, Old: course.Old, New: course.New, Relays: looked.Relays, Sweep: looked.Sweep, Sign: course.Sign}
	for _, p := range looked.Sweep.Parents {
		a.DS = a.DS || len(p.DS.DS()) > 0
	}
	var err error
	if a.Desired, err = s.zones.WantedAddresses(ctx, access.Service, course.Domain); err != nil {
		return nil, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) (err error) {
		a.Others, err = check.DelegatedBelow(tx, course.Domain, mostOthers)
		return err
	})
	return handover.Hanging(a), err
}

// fits returns a problem where the new provider cannot keep records of the zone: they would be lost with the move.
func (s *Handover) fits(ctx context.Context, driver provider.Driver, name dnsname.Name, account string) error {
	desired, err := s.zones.WantedAddresses(ctx, access.Service, name)
	if err != nil {
		return err
	}
	zone, there, err := provider.FindZone(ctx, driver, name)
	if err != nil {
		return logbook.Explain(err)
	}
	if !there {
		zone.Ref.Name = name
	}
	caps, err := driver.Describe(ctx, zone.Ref)
	if err != nil {
		return logbook.Explain(err)
	}
	_, found := caps.Project(name, desired)
	found = slices.DeleteFunc(found, func(f finding.Finding) bool { return f.Severity != finding.Error })
	if len(found) == 0 {
		return nil
	}
	return &wire.Problem{Kind: wire.Blocked, Findings: found,
		Message: account + " cannot keep all records of " + name.Unicode() + ", so they would be lost with the move (target-cannot-hold). Remove them from the zone, or choose another provider. Nothing was changed."}
}
