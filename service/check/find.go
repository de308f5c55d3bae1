package check

import (
	"context"
	"net/netip"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/service/zones"
	"beacon/store"
)

// DomainOf returns the domain of a zone, which is made where there is none yet.
func DomainOf(tx *store.Tx, zoneID uint64) (store.Domain, error) { return tx.EnsureDomain(zoneID) }

// DomainOrNew returns the domain of a zone without making one: where there is none yet, it is what a new one would be.
func DomainOrNew(tx *store.Tx, zoneID uint64) (store.Domain, error) { return tx.DomainOf(zoneID) }

// DomainByID finds a domain.
func DomainByID(tx *store.Tx, id uint64) (store.Domain, error) { return tx.DomainByID(id) }

// SetWanted records which nameservers a domain should have.
func SetWanted(tx *store.Tx, id uint64, nameservers []dnsname.Name) error {
	return tx.SetWanted(id, nameservers)
}

// AssignedTo makes the nameservers desired that the provider assigned which the definition of a zone delegates to, once it has.
func (s *Checks) AssignedTo(tx *store.Tx, zoneID uint64) error {
	z, err := zones.ByID(tx, zoneID)
	if err != nil || z.DelegateToID == nil {
		return err
	}
	placements, err := zones.Placements(tx, zoneID)
	if err != nil {
		return err
	}
	for _, p := range placements {
		if p.AccountID != *z.DelegateToID || len(p.Names()) == 0 {
			continue
		}
		d, err := tx.EnsureDomain(zoneID)
		if err != nil {
			return err
		}
		return tx.SetWanted(d.ID, dnsname.SortSet(p.Names()))
	}
	return nil
}

// Look sweeps a domain from here and from all vantage points, for a decision: nothing is kept. It also returns what earlier sweeps and this
// one establish together.
func (s *Checks) Look(ctx context.Context, z store.Zone, d store.Domain, nameservers []dnsname.Name, hosts []delegation.HostObject) (sweep evidence.Sweep, h delegation.History, err error) {
	ctx, cancel := context.WithTimeout(ctx, CheckTime)
	defer cancel()
	past, err := d.PastSweeps()
	if err != nil {
		return sweep, h, err
	}
	scope := ResolveScope(z.Name(), zones.SitesOf(z), nameservers, nil)
	scope.Signed, scope.Tape, scope.Hosts = true, false, map[dnsname.Name][]netip.Addr{}
	for _, h := range hosts {
		scope.Hosts[h.Name] = h.Addresses
	}
	sweep = s.sweep(ctx, z.Name(), scope)
	return sweep, delegation.Advance(past, sweep), nil
}

// Accepted records what a definition says of where a domain is to be delegated to, and has it checked: how it is is worth knowing before
// anything is changed. A definition that says nothing of it changes nothing.
func (s *Checks) Accepted(tx *store.Tx, zoneID uint64, nameservers []dnsname.Name) error {
	d, err := tx.EnsureDomain(zoneID)
	if err != nil {
		return err
	}
	if len(nameservers) > 0 {
		err = tx.SetWanted(d.ID, nameservers)
	} else {
		err = s.AssignedTo(tx, zoneID)
	}
	if err != nil {
		return err
	}
	return s.Soon(tx, d.ID)
}

// Margin returns the margin for many machines behind one address, simulated time.
func (s *Checks) Margin() time.Duration { return s.settings.Checks.Margin }

// Pace returns how often a domain is checked while something settles, simulated time.
func (s *Checks) Pace() time.Duration { return s.settings.Checks.Settling }

// WithoutIPv6 reports whether a setting says that nobody here can ask over IPv6.
func (s *Checks) WithoutIPv6() bool { return s.settings.Checks.NoIPv6 }
