package accounts

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"sync"
	"time"

	"beacon/core/change"
	"beacon/core/wording"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq"
	"beacon/provider"
	"beacon/wire"
)

// evaluation bounds one jq expression of a profile, real time.
const evaluation = 5 * time.Second

// Kind is a kind of provider account that assembly registers. A kind that a profile describes needs no registration.
type Kind struct {
	About string
	// Driver returns the driver of an account.
	Driver func(Connection) (provider.Driver, error)
	// Address returns an error where the address of an account has the wrong form; nil where it is the base address of an HTTP interface.
	Address func(address string) error
	// Wrong returns a credential of the same form that cannot be right; nil to append to the right one.
	Wrong func(secret string) string
	// Inbound kinds have a credential for programs that ask us, so no wrong one can be tried.
	Inbound bool
	// Unlisted kinds have no list of the zones that an account holds.
	Unlisted bool
	// Closed kinds take no new accounts.
	Closed bool

	caps *change.Caps // of a profile
}

// Connection is an account with its credential, which may be another than the stored one.
type Connection struct {
	ID      uint64
	Name    string
	Address string
	Secret  string
	Client  outcall.Client
}

// kinds are the kinds of provider accounts: those that are registered, and those that a profile describes.
type kinds struct {
	registered map[string]Kind
	folder     string
	pool       *jq.Pool
	mu         sync.Mutex
	profiles   map[string]*profile.Profile
}

// newKinds reads the profiles once, so that one with faults is reported at the start and not at night.
func newKinds(folder string, evaluator []string) (*kinds, error) {
	k := &kinds{registered: map[string]Kind{}, folder: folder}
	if folder == "" {
		return k, nil
	}
	if len(evaluator) == 0 {
		return nil, fmt.Errorf("the setting profiles: this program has nothing to evaluate their expressions with")
	}
	k.pool = jq.NewPool(evaluator, evaluation)
	return k, k.load()
}

func (k *kinds) register(name string, kind Kind) error {
	if k.profiles[name] != nil {
		return fmt.Errorf("the setting profiles: %q is the name of a kind that needs no profile", name)
	}
	k.registered[name] = kind
	return nil
}

func (k *kinds) load() error {
	profiles, err := profile.LoadAll(os.DirFS(k.folder))
	if err != nil {
		return fmt.Errorf("the setting profiles:\n%w", err)
	}
	for name := range profiles {
		if _, taken := k.registered[name]; taken {
			return fmt.Errorf("the setting profiles: %q is the name of a kind that needs no profile", name)
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.profiles = profiles
	return nil
}

func (k *kinds) close() {
	if k.pool != nil {
		k.pool.Close()
	}
}

// find returns a kind by its name. A profile that was put into the folder since the start is found too.
func (k *kinds) find(name string) (kind Kind, known bool, err error) {
	if kind, known = k.known(name); known || k.folder == "" {
		return kind, known, nil
	}
	if err := k.load(); err != nil {
		return kind, false, wire.Problemf(wire.Blocked, "%s", err)
	}
	kind, known = k.known(name)
	return kind, known, nil
}

// known returns a kind by its name without looking into the folder of profiles.
func (k *kinds) known(name string) (Kind, bool) {
	if kind, ok := k.registered[name]; ok {
		return kind, true
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	p := k.profiles[name]
	if p == nil {
		return Kind{}, false
	}
	return Kind{About: p.About, caps: &p.Caps, Driver: func(c Connection) (provider.Driver, error) { return profile.New(p, k.pool, c.Client), nil }}, true
}

// open lists the names of the kinds that take new accounts.
func (k *kinds) open() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var names []string
	for name, kind := range k.registered {
		if !kind.Closed {
			names = append(names, name)
		}
	}
	names = append(names, slices.Collect(maps.Keys(k.profiles))...)
	slices.Sort(names)
	return names
}

// fits returns a problem where the address of an account has the wrong form for its kind.
func (k Kind) fits(address string) error {
	if k.Address == nil {
		return httpAddress(address)
	}
	if err := k.Address(address); err != nil {
		return wire.Problemf(wire.Invalid, "%s.", wording.Sentence(err.Error()))
	}
	return nil
}

func httpAddress(address string) error {
	base, err := url.Parse(address)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.User != nil {
		return wire.Problemf(wire.Invalid, "%q is no address of an interface. Write it like https://api.provider.example.", address)
	}
	return nil
}

// wrong returns a credential of the same form that cannot be right.
func (k Kind) wrong(secret string) string {
	if k.Wrong == nil {
		return secret + "-not"
	}
	return k.Wrong(secret)
}

// perSecond returns the requests in a second that the provider allows; 0 where that is not known.
func (k Kind) perSecond() float64 {
	if k.caps == nil {
		return 0
	}
	return k.caps.Rate
}

// Kinds lists what accounts can be connected to.
func (s *Accounts) Kinds(context.Context) []wire.Kind {
	list := []wire.Kind{}
	for _, name := range s.kinds.open() {
		if kind, ok := s.kinds.known(name); ok {
			list = append(list, wire.Kind{Name: name, About: kind.About, Caps: kind.caps})
		}
	}
	return list
}
