package check

import (
	"context"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/resolve"
	"beacon/service/jobs"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Soon makes a domain due for a check now.
func (s *Checks) Soon(tx *store.Tx, domainID uint64) error {
	return jobs.Enqueue(tx, store.JobCheck, domainID, s.store.Now())
}

// LastReport returns the report of a domain's newest check without making one; false where there is none yet.
func (s *Checks) LastReport(ctx context.Context, by access.Caller, name dnsname.Name) (r delegation.Report, ok bool, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return r, false, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		d, err := tx.DomainOf(z.ID)
		if err != nil {
			return err
		}
		r, ok, err = tx.LastReport(d.ID)
		return err
	})
	return r, ok, err
}

// Answers returns raw responses of a domain's newest check.
func (s *Checks) Answers(ctx context.Context, by access.Caller, name dnsname.Name) (list []evidence.Heard, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return nil, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		d, err := tx.DomainOf(z.ID)
		if err != nil {
			return err
		}
		list, err = tx.Answers(d.ID)
		return err
	})
	return list, err
}

// ResolveScope is what a check of a domain looks at.
func ResolveScope(name dnsname.Name, sites, nameservers, ours []dnsname.Name) resolve.Scope {
	return resolve.Scope{Nameservers: nameservers, Ours: ours, Watched: delegation.Watched(name, sites), Sites: sites, Tape: true}
}
