package accounts

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/provider"
	"beacon/reach"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"

	"github.com/prometheus/client_golang/prometheus"
)

var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Parts are what Accounts work with.
type Parts struct {
	Store     *store.Store
	Logbook   *logbook.Book
	Log       *slog.Logger
	Door      *reach.Door
	HTTP      *http.Client
	KeyFile   string        // seals credentials; made if missing
	Profiles  string        // folder of profiles; empty for none
	Evaluator []string      // command that starts a worker for the expressions of profiles
	Timeout   time.Duration // of one request, real time
	PlainText []string      // hosts that are reached by http:// though they are other machines
	Calls     *prometheus.CounterVec
	// Placed returns the zones that are placed at an account, as it names them; without an ID those that it has not made yet.
	Placed func(tx *store.Tx, account uint64) ([]provider.ZoneRef, error)
	// Managed returns which of some zones are managed here.
	Managed func(tx *store.Tx, zones []dnsname.Name) (map[dnsname.Name]bool, error)
	// Added is called when a provider account was added.
	Added func(ctx context.Context) error
}

// Accounts are the connections to providers and registrars. It is safe for concurrent use once all kinds are registered.
type Accounts struct {
	store   *store.Store
	logbook *logbook.Book
	log     *slog.Logger
	door    *reach.Door
	http    *http.Client
	seal    *store.Seal
	kinds   *kinds
	timeout time.Duration
	plain   []string // hosts that are reached by http:// though they are other machines
	calls   *prometheus.CounterVec
	all     func(*store.Tx, uint64) ([]provider.ZoneRef, error)
	managed func(*store.Tx, []dnsname.Name) (map[dnsname.Name]bool, error)
	added   func(context.Context) error
	lanes   sync.Map // how many changes may be under way at an account, by its ID
	pacesMu sync.Mutex
	paces   map[uint64]*pace // by account
	usedMu  sync.Mutex
	used    map[string]time.Time // accounts, by when their last use was recorded
}

// New opens the key that seals credentials and reads the profiles.
func New(p Parts) (*Accounts, error) {
	sealed := 0
	if err := p.Store.Look(context.Background(), func(tx *store.Tx) (err error) { sealed, err = tx.SealedCredentials(); return err }); err != nil {
		return nil, err
	}
	seal, err := store.OpenSeal(p.KeyFile, sealed)
	if err != nil {
		return nil, err
	}
	k, err := newKinds(p.Profiles, p.Evaluator, p.Log)
	if err != nil {
		return nil, err
	}
	return &Accounts{store: p.Store, logbook: p.Logbook, log: p.Log, door: p.Door, http: p.HTTP, seal: seal, kinds: k,
		timeout: p.Timeout, plain: p.PlainText, calls: p.Calls, all: p.Placed, managed: p.Managed, added: p.Added, paces: map[uint64]*pace{}, used: map[string]time.Time{}}, nil
}

// Register adds a kind of provider account.
func (s *Accounts) Register(name string, kind Kind) error { return s.kinds.register(name, kind) }

// Close ends the workers that evaluate expressions of profiles.
func (s *Accounts) Close() { s.kinds.close() }

// AddAccount connects an account: it is tried at once, and kept only if that went well.
func (s *Accounts) AddAccount(ctx context.Context, by access.Caller, n wire.NewAccount) (tried wire.Tried, err error) {
	if err := wire.Permit(by, access.Connect, access.Everything); err != nil {
		return tried, err
	}
	account := store.Account{Name: n.Name, Role: n.Role, Kind: n.Kind, Address: strings.TrimSuffix(n.Address, "/")}
	if !accountName.MatchString(n.Name) {
		return tried, wire.Problemf(wire.Invalid, "%q is no account name. Use lower-case letters, digits and hyphens, such as heron-main.", n.Name)
	}
	kind, err := s.fits(n)
	if err != nil {
		return tried, err
	}
	if n.Secret, err = kind.credential(n.Secret, n.Parts); err != nil {
		return tried, err
	}
	if account.Hosts, err = kind.further(n.Hosts); err != nil {
		return tried, err
	}
	if tried, err = s.try(ctx, account, n.Secret); err != nil {
		return tried, logbook.Explain(err)
	}
	if account.Sealed, err = s.seal.Close(account.Bound(), n.Secret); err != nil {
		return tried, err
	}
	account.Rights = rightsText(tried.Rights)
	now := s.store.Now()
	account.UsedAt = &now
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddAccount(&account); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "account.added", n.Name, fmt.Sprintf("%s %s at %s", n.Role, n.Kind, n.Address))
	})
	if err == nil && n.Role == wire.RoleProvider {
		if err := s.added(ctx); err != nil {
			s.log.Error("a new account could not be prepared", "account", n.Name, "error", err)
		}
	}
	return tried, err
}

// fits returns the kind of a new account, or a problem where there is none, or the address has the wrong form for it.
func (s *Accounts) fits(n wire.NewAccount) (Kind, error) {
	kind, known, err := s.kinds.find(n.Kind)
	if err != nil {
		return kind, err
	}
	if !known || kind.Closed || kind.role() != n.Role {
		return kind, noSuchKind(n, s.kinds.open(n.Role))
	}
	return kind, kind.fits(n.Address)
}

func noSuchKind(n wire.NewAccount, kinds []string) error {
	return wire.Problemf(wire.Invalid, "%q is no kind of %s. The kinds are: %s.", n.Kind, n.Role, strings.Join(kinds, ", "))
}

// List returns the accounts of a role.
func (s *Accounts) List(tx *store.Tx, role string) ([]store.Account, error) { return tx.Accounts(role) }

// View returns an account as it is shown, but for what is placed there.
func (s *Accounts) View(a store.Account) wire.AccountView {
	kind, _ := s.kinds.known(a.Kind)
	rights := a.RightList()
	return wire.AccountView{About: kind.About, Caps: kind.caps, Registrar: viewRegistrarCaps(kind.registrarCaps), Rights: rights, Findings: judgeRights(a.Name, rights),
		Account: wire.Account{Name: a.Name, Role: a.Role, Kind: a.Kind, Address: a.Address, CreatedAt: a.CreatedAt, UsedAt: a.UsedAt, RotatedAt: a.RotatedAt, Hosts: a.HostList()}}
}
