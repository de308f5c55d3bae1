package service

import (
	"context"

	"beacon/core/change"
	"beacon/core/record"
	"beacon/service/sync"
	"beacon/store"
)

// observer passes on what syncs write to the rooms that have to know.
type observer struct{ s *Service }

func (o observer) Made(tx *store.Tx, zoneID uint64) error { return o.s.wantPlacements(tx, zoneID) }

func (o observer) Answers(ctx context.Context, z store.Zone, c record.Contents, known []store.Alias) ([]store.Alias, error) {
	return o.s.askAliases(ctx, z, c, known)
}

func (o observer) Written(tx *store.Tx, placementID uint64, hosts []store.Host, done change.List) error {
	return hostsWritten(tx, placementID, hosts, done)
}

func (o observer) Invisible(tx *store.Tx, placementID uint64) (map[uint64]bool, error) {
	return tx.Invisible(placementID)
}

func (o observer) Visible(tx *store.Tx, placementID uint64, account string, awaited []sync.AwaitedHost, applied change.List) error {
	return o.s.hostsVisible(tx, placementID, account, awaited, applied)
}
