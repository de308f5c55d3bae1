package overview

import (
	"context"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Domains returns at most limit domains behind a name that pass a filter, in canonical order, and whether there are more.
func (s *Overview) Domains(ctx context.Context, by access.Caller, after dnsname.Name, limit int, f wire.DomainFilter) (list []wire.DomainView, more bool, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		rows, err := tx.DomainsAfter(after, limit+1, store.DomainFilter{Verdict: f.Verdict, Gravest: f.Finding, Name: strings.ToLower(f.Name), Sort: store.DomainOrder(f.Sort), Behind: f.Behind})
		if err != nil {
			return err
		}
		if more = len(rows) > limit; more {
			rows = rows[:limit]
		}
		list = make([]wire.DomainView, len(rows))
		for i, r := range rows {
			v := wire.DomainView{Name: dnsname.FromKey(r.NameKey), Description: r.Description, Registrar: r.RegistrarName, Providers: []string{}, Wanted: store.Domain{Wanted: r.Wanted}.WantedSet(),
				Verdict: r.Verdict, Gravest: r.Gravest, SettlesBy: r.SettlesBy, CheckedAt: r.CheckedAt}
			if r.Accounts != "" {
				v.Providers = strings.Split(r.Accounts, ",")
			}
			list[i] = v
		}
		return nil
	})
	return list, more, err
}

// Counts returns how many domains have each verdict and gravest finding.
func (s *Overview) Counts(ctx context.Context, by access.Caller) (c wire.DomainCounts, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		rows, total, err := tx.DomainCounts()
		c = wire.DomainCounts{Total: total, Counts: make([]wire.DomainCount, 0, len(rows)+1)}
		unseen := total
		for _, r := range rows {
			unseen -= r.Domains
			if r.Verdict != "" {
				c.Counts = append(c.Counts, wire.DomainCount{Verdict: r.Verdict, Gravest: r.Gravest, Domains: r.Domains})
			} else {
				unseen += r.Domains
			}
		}
		if unseen > 0 {
			c.Counts = append(c.Counts, wire.DomainCount{Domains: unseen})
		}
		return err
	})
	return c, err
}

// Domain shows one domain.
func (s *Overview) Domain(ctx context.Context, by access.Caller, name dnsname.Name) (out wire.DomainDetail, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.ZoneNamed(name)
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
		if at.Placed, err = written(tx, z.Zone); err != nil {
			return err
		}
		if parent, there, err := zones.ParentOf(tx, v.Name); err != nil {
			return err
		} else if there && z.RegistrarID == nil {
			at.Zone = parent.Name().Unicode()
		}
		move, err := tx.LastHandover(z.ID)
		if err != nil {
			return err
		}
		at.Moving = move.ID != 0 && !move.Ended()
		out = wire.DomainDetail{DomainView: viewDomain(v, d), Passage: handover.Passage(at), Handover: wire.HandoverState(move.State)}
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
	out := wire.DomainView{Name: v.Name, Description: v.Description, Registrar: v.Registrar, Providers: []string{}, Wanted: d.WantedSet(),
		Verdict: d.Verdict, SettlesBy: d.SettlesBy, CheckedAt: d.CheckedAt}
	for _, p := range v.Placements {
		out.Providers = append(out.Providers, p.Account)
	}
	return out
}
