package service

import (
	"context"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/resolve"
	"beacon/store"
)

// DomainView is where a domain stands, as of the last check.
type DomainView struct {
	Name      dnsname.Name       `json:"name"`
	Label     string             `json:"label"`
	Registrar string             `json:"registrar"`
	At        []string           `json:"at"` // provider accounts
	Wanted    []dnsname.Name     `json:"wanted"`
	Verdict   delegation.Verdict `json:"verdict"` // empty before the first check
	SettlesBy *time.Time         `json:"settles_by"`
	CheckedAt *time.Time         `json:"checked_at"`
}

// Domains lists the domains of all zones with where each stands.
func (s *Service) Domains(ctx context.Context) (list []DomainView, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		zones, err := tx.Zones()
		if err != nil {
			return err
		}
		known, err := tx.Domains()
		if err != nil {
			return err
		}
		list = make([]DomainView, 0, len(zones))
		for _, z := range zones {
			v, err := viewZone(tx, z)
			if err != nil {
				return err
			}
			d := known[z.ID]
			out := DomainView{Name: v.Name, Label: v.Label, Registrar: v.Registrar, At: []string{}, Wanted: d.WantedSet(),
				Verdict: d.Verdict, SettlesBy: d.SettlesBy, CheckedAt: d.CheckedAt}
			if out.Wanted == nil {
				out.Wanted = []dnsname.Name{}
			}
			for _, p := range v.Placements {
				out.At = append(out.At, p.Account)
			}
			list = append(list, out)
		}
		return nil
	})
	return list, err
}

// LastReport gives the report of a domain's newest check without making one; false where there is none yet.
func (s *Service) LastReport(ctx context.Context, name dnsname.Name) (r delegation.Report, ok bool, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		d, err := tx.EnsureDomain(z.ID)
		if err != nil {
			return err
		}
		r, ok, err = tx.LastReport(d.ID)
		return err
	})
	return r, ok, err
}

// resolveScope is what a check of a domain looks at.
func resolveScope(name dnsname.Name, nameservers []dnsname.Name) resolve.Scope {
	return resolve.Scope{Nameservers: nameservers, Watched: delegation.Watched(name)}
}
