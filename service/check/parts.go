package check

import (
	"log/slog"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"beacon/clock"
	"beacon/registrar"
	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/notify"
	"beacon/store"
	"beacon/visit"
)

// Parts are what Checks work with.
type Parts struct {
	Store    *store.Store
	Logbook  *logbook.Book
	Jobs     *jobs.Queue
	Log      *slog.Logger
	Accounts *accounts.Accounts
	Notify   *notify.Notifier
	Sweeper  *resolve.Sweeper
	Visitor  *visit.Visitor
	HTTP     *http.Client
	World    *clock.World
	Settings Settings
	// Kept is called in the transaction that keeps a check; nil where nothing follows from that.
	Kept  func(tx *store.Tx, d store.Domain) error
	Made  *prometheus.CounterVec // checks, by verdict
	Calls *prometheus.CounterVec // requests to vantage points, by name and outcome
}

// Checks look at domains. It is safe for concurrent use.
type Checks struct {
	store    *store.Store
	logbook  *logbook.Book
	jobs     *jobs.Queue
	log      *slog.Logger
	accounts *accounts.Accounts
	notify   *notify.Notifier
	sweeper  *resolve.Sweeper
	visitor  *visit.Visitor
	http     *http.Client
	world    *clock.World
	settings Settings
	kept     func(tx *store.Tx, d store.Domain) error
	made     *prometheus.CounterVec
	calls    *prometheus.CounterVec
}

// New returns the checks of a database.
func New(p Parts) *Checks {
	return &Checks{store: p.Store, logbook: p.Logbook, jobs: p.Jobs, log: p.Log, accounts: p.Accounts, notify: p.Notify, sweeper: p.Sweeper, visitor: p.Visitor,
		http: p.HTTP, world: p.World, settings: p.Settings, kept: p.Kept, made: p.Made, calls: p.Calls}
}

// Settings say how domains are checked.
type Settings struct {
	Checks  CheckSettings
	RDAP    registrar.Directory // registries that return registrations
	Sites   WebsiteSettings     // how web hosts are visited
	Places  []VantageSettings   // vantage points
	Request time.Duration       // of one request, real time
}
