package check

import (
	"beacon/core/dnsname"
	"beacon/store"
)

// DomainOf returns the domain of a zone, which is made where there is none yet.
func DomainOf(tx *store.Tx, zoneID uint64) (store.Domain, error) { return tx.EnsureDomain(zoneID) }

// DomainByID finds a domain.
func DomainByID(tx *store.Tx, id uint64) (store.Domain, error) { return tx.DomainByID(id) }

// SetWanted records which nameservers a domain should have.
func SetWanted(tx *store.Tx, id uint64, nameservers []dnsname.Name) error {
	return tx.SetWanted(id, nameservers)
}
