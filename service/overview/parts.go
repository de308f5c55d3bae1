package overview

import (
	"beacon/clock"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
)

// Overview shows what several rooms know. It is safe for concurrent use.
type Overview struct {
	store    *store.Store
	logbook  *logbook.Book
	accounts *accounts.Accounts
	zones    *zones.Zones
	world    *clock.World
}

// New returns the overview of a database.
func New(db *store.Store, book *logbook.Book, a *accounts.Accounts, z *zones.Zones, world *clock.World) *Overview {
	return &Overview{db, book, a, z, world}
}
