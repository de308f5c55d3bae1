package service

import (
	"beacon/service/hosts"
	"beacon/store"
)

// observer passes on what syncs write to the rooms that have to know.
type observer struct {
	*hosts.Hosts
	made func(tx *store.Tx, zoneID uint64) error
}

// Made is called in the transaction that records that a zone was made or found at a provider.
func (o observer) Made(tx *store.Tx, zoneID uint64) error { return o.made(tx, zoneID) }
