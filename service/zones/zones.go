package zones

import (
	"context"
	"net/netip"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/soa"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// Parts are what Zones work with.
type Parts struct {
	Store    *store.Store
	Logbook  *logbook.Book
	Accounts *accounts.Accounts
	House    HouseKit
	Believe  []netip.Prefix // networks whose addresses records may point at though they are private
	Timeout  time.Duration  // of one request to a provider, real time
	SOA      soa.Parameters // desired fields of the SOA record of zones that have none of their own
	// Revised is called in the transaction that accepts a revision.
	Revised func(tx *store.Tx, zone store.Zone, contents record.Contents) error
}

// Zones are the zones that are managed here. It is safe for concurrent use.
type Zones struct {
	store    *store.Store
	logbook  *logbook.Book
	accounts *accounts.Accounts
	house    HouseKit
	believe  []netip.Prefix
	timeout  time.Duration
	revised  func(*store.Tx, store.Zone, record.Contents) error
	soa      soa.Parameters
}

// New returns the zones of a database.
func New(p Parts) *Zones {
	return &Zones{store: p.Store, logbook: p.Logbook, accounts: p.Accounts, house: p.House, believe: p.Believe, timeout: p.Timeout, soa: p.SOA, revised: p.Revised}
}

// SOA returns the desired fields of a zone's SOA record: its own, over the defaults of the service.
func (s *Zones) SOA(z store.Zone) soa.Parameters { return z.ZoneSettings().SOA.Over(s.soa) }

// DefaultSOA returns the desired fields of the SOA record of a zone that has none of its own.
func (s *Zones) DefaultSOA() soa.Parameters { return s.soa }

// Wanted returns what a zone should contain: its revision, with the addresses that were reported on top.
func (s *Zones) Wanted(ctx context.Context, name dnsname.Name) (c record.Contents, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil || z.RevisionID == nil {
			return err
		}
		if c, err = tx.Contents(*z.RevisionID); err != nil {
			return err
		}
		owners, err := OwnersOf(tx, z.ID)
		c = layers.WithReported(c, owners.Layers())
		return err
	})
	return c, err
}

// WantedAddresses is Wanted with addresses in the place of ALIAS records, as far as they are known: what every nameserver can serve.
func (s *Zones) WantedAddresses(ctx context.Context, by access.Caller, name dnsname.Name) (c record.Contents, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return c, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil || z.RevisionID == nil {
			return err
		}
		if c, err = tx.Contents(*z.RevisionID); err != nil {
			return err
		}
		owners, err := OwnersOf(tx, z.ID)
		c = layers.Over(c, owners.Layers()).Contents
		return err
	})
	return c, err
}

// desired returns the records that a zone shall have.
func desired(tx *store.Tx, z store.Zone) (record.Contents, error) {
	if z.RevisionID == nil {
		return record.Contents{}, nil
	}
	return tx.Contents(*z.RevisionID)
}

// FindOrAdd finds and locks a zone; one that is missing is made if make is set.
func FindOrAdd(tx *store.Tx, name dnsname.Name, create bool) (z store.Zone, known bool, err error) {
	if problem := name.ZoneProblem(); problem != "" {
		return z, false, wire.Problemf(wire.Invalid, "%s is not the name of a zone: %s.", name.Unicode(), problem)
	}
	z, err = tx.LockZone(name)
	switch {
	case err == nil:
		return z, true, nil
	case !store.IsMissing(err):
		return z, false, err
	case !create:
		return z, false, nil
	}
	z, err = tx.AddZone(name)
	return z, false, err
}

// Findings judges what a zone should contain.
func (s *Zones) Findings(ctx context.Context, by access.Caller, name dnsname.Name) ([]rules.Found, error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return nil, err
	}
	c, err := s.Wanted(ctx, name)
	if err != nil {
		return nil, err
	}
	found := s.Judge(rules.Zone{Name: name, Contents: c})
	if len(c.Aliases()) == 0 {
		return found, nil
	}
	return found, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		known, err := tx.Aliases(z.ID)
		for _, f := range AliasFindings(known) {
			found = append(found, rules.Found{Finding: f})
		}
		return err
	})
}
