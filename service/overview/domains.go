package overview

import (
	"context"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/service/check"
	"beacon/store"
	"beacon/wire"
)

// Domains lists the domains of all zones with where each stands.
func (s *Overview) Domains(ctx context.Context) (list []wire.DomainView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		zones, err := tx.Zones()
		if err != nil {
			return err
		}
		known, err := tx.Domains()
		if err != nil {
			return err
		}
		list = make([]wire.DomainView, 0, len(zones))
		for _, z := range zones {
			v, err := viewZone(tx, z)
			if err != nil {
				return err
			}
			list = append(list, viewDomain(v, known[z.ID]))
		}
		return nil
	})
	return list, err
}

// Fleet lists all domains with as little of each as a glance needs.
func (s *Overview) Fleet(ctx context.Context) (list []wire.FleetDomain, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		rows, err := tx.Fleet()
		list = make([]wire.FleetDomain, len(rows))
		for i, r := range rows {
			list[i] = check.FleetDomain(r)
		}
		return err
	})
	return list, err
}

// Domain shows one domain.
func (s *Overview) Domain(ctx context.Context, name dnsname.Name) (out wire.DomainDetail, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		v, err := viewZone(tx, z)
		if err != nil {
			return err
		}
		d, err := tx.DomainOf(z.ID)
		if err != nil {
			return err
		}
		last, _, err := tx.LastReport(d.ID)
		if err != nil {
			return err
		}
		at := handover.Progress{Records: v.Revision != nil, Wanted: d.WantedSet(), Parent: last.InForce(), Verdict: d.Verdict}
		if last.Registrar != nil {
			at.Active, at.Saved = last.Registrar.Active, last.Registrar.Saved
		}
		if at.Placed, err = written(tx, z); err != nil {
			return err
		}
		out = wire.DomainDetail{DomainView: viewDomain(v, d), Passage: handover.Passage(at)}
		return nil
	})
	return out, err
}

// written reports whether the newest revision was written to all placements of a zone.
func written(tx *store.Tx, z store.Zone) (bool, error) {
	placements, err := tx.Placements(z.ID)
	if err != nil || len(placements) == 0 || z.RevisionID == nil {
		return false, err
	}
	for _, p := range placements {
		syncs, err := tx.Syncs(p.ID)
		if err != nil {
			return false, err
		}
		if p.RemoteID == "" || !slices.ContainsFunc(syncs, func(s store.Sync) bool { return s.State == store.SyncDone && s.RevisionID == *z.RevisionID }) {
			return false, nil
		}
	}
	return true, nil
}

func viewDomain(v wire.ZoneView, d store.Domain) wire.DomainView {
	out := wire.DomainView{Name: v.Name, Label: v.Label, Registrar: v.Registrar, At: []string{}, Wanted: d.WantedSet(),
		Verdict: d.Verdict, SettlesBy: d.SettlesBy, CheckedAt: d.CheckedAt}
	for _, p := range v.Placements {
		out.At = append(out.At, p.Account)
	}
	return out
}
