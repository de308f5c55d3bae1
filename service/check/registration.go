package check

import (
	"context"
	"errors"
	"strings"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/registrar"
	"beacon/service/accounts"
	"beacon/store"
)

// registration asks the registrar what it holds of a zone's domain; nil where the zone names no registrar.
func (s *Checks) registration(ctx context.Context, z store.Zone) *delegation.Registration {
	if z.RegistrarID == nil {
		return s.rdap(ctx, z.Name())
	}
	var account store.Account
	if err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { account, err = accounts.ByID(tx, *z.RegistrarID); return err }); err != nil {
		return &delegation.Registration{Problem: err.Error()}
	}
	out := &delegation.Registration{Account: account.Name, AskedAt: s.world.Now()}
	driver, err := s.accounts.Registrar(account)
	if err == nil {
		calling, cancel := context.WithTimeout(ctx, s.settings.Request)
		defer cancel()
		reg, askErr := driver.Look(calling, z.Name())
		out.Active, out.Saved, out.Status, out.From, err = reg.Active, reg.Saved, reg.Status, "registrar", askErr
		out.Reasons, out.Pending = reg.Reasons, accounts.PendingWords(reg)
		if !reg.Expires.IsZero() {
			out.Expires = &reg.Expires
		}
	}
	if err != nil {
		out.Problem = err.Error()
		return out
	}
	if out.Expires == nil && len(out.Status) == 0 { // it tells of nameservers only; the registry may tell the rest
		if r := s.rdap(ctx, z.Name()); r != nil && r.Problem == "" {
			out.Expires, out.Status, out.From = r.Expires, r.Status, r.From
		}
	}
	return out
}

// rdap asks the registry for the state of a registration that no account here holds; nil where none is named in the settings.
func (s *Checks) rdap(ctx context.Context, name dnsname.Name) *delegation.Registration {
	zone, address, known := s.settings.RDAP.For(name)
	if !known || name.Parent() != zone {
		return nil
	}
	out := &delegation.Registration{Account: "RDAP of " + strings.TrimSuffix(zone.String(), "."), From: "RDAP", AskedAt: s.world.Now()}
	calling, cancel := context.WithTimeout(ctx, s.settings.Request)
	defer cancel()
	reg, err := registrar.LookUp(calling, s.http, address, name)
	switch {
	case errors.Is(err, registrar.ErrNotRegistered):
		return nil // the parent says so too
	case err != nil:
		out.Problem = err.Error()
		s.logbook.Note(ctx, "service", "rdap.failed", name.String(), err.Error())
	case !reg.Expires.IsZero():
		out.Expires = &reg.Expires
	}
	out.Status, out.Listed = reg.Status, reg.Active
	return out
}

// sparingly asks the registrar only where its word matters: while the parents do not serve what is wanted, or when it
// has not been asked for the time between two checks of a settled domain, or said something else than the desired one.
func (s *Checks) sparingly(d store.Domain) func(context.Context, store.Zone) *delegation.Registration {
	return func(ctx context.Context, z store.Zone) *delegation.Registration {
		var last delegation.Report
		past, err := d.PastSweeps()
		if err == nil {
			err = s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { last, _, err = tx.LastReport(d.ID); return err })
		}
		arrived := err == nil && !past.Since.IsZero() && delegation.SameSet(past.Current.Set, d.WantedSet())
		// What it said in the middle of a change is asked again: a list that was saved then may be active by now.
		if r := last.Registrar; arrived && r != nil && r.Problem == "" && delegation.SameSet(r.Active, d.WantedSet()) && delegation.SameSet(r.Saved, r.Active) && s.world.Now().Sub(r.AskedAt) < s.settings.Checks.Settled {
			return r
		}
		return s.registration(ctx, z)
	}
}

// DelegatedBelow returns other domains whose desired nameservers have names at or below one.
func DelegatedBelow(tx *store.Tx, name dnsname.Name, most int) ([]dnsname.Name, error) {
	return tx.DomainsDelegatedBelow(name, most)
}
