package secondaries

import (
	"log/slog"

	"beacon/primary"
	"beacon/reach"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/store"
)

// Parts are what Secondaries work with.
type Parts struct {
	Store    *store.Store
	Logbook  *logbook.Book
	Jobs     *jobs.Queue
	Log      *slog.Logger
	Accounts *accounts.Accounts
	Syncs    *sync.Syncs
	Door     *reach.Door
	Settings Settings
	Updates  primary.Updater
}

// Secondaries are the nameservers that fetch zones from here. It is safe for concurrent use.
type Secondaries struct {
	store    *store.Store
	logbook  *logbook.Book
	jobs     *jobs.Queue
	log      *slog.Logger
	accounts *accounts.Accounts
	syncs    *sync.Syncs
	door     *reach.Door
	listen   string // empty for nowhere
	updates  primary.Updater
}

// New returns the secondaries of a database.
func New(p Parts) *Secondaries {
	return &Secondaries{store: p.Store, logbook: p.Logbook, jobs: p.Jobs, log: p.Log, accounts: p.Accounts, syncs: p.Syncs, door: p.Door, listen: p.Settings.Listen, updates: p.Updates}
}
