package accounts

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"beacon/core/change"
	"beacon/core/wording"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq"
	"beacon/provider"
	"beacon/registrar"
	"beacon/wire"
)

// evaluation bounds one jq expression of a profile, real time.
const evaluation = 5 * time.Second

// Kind is a kind of account that assembly registers. A kind that a profile describes needs no registration.
type Kind struct {
	About string
	// Driver returns the driver of a provider account; nil where the kind is one of registrars.
	Driver func(Connection) (provider.Driver, error)
	// Registrar returns the driver of a registrar account; nil where the kind is one of providers.
	Registrar func(Connection) (registrar.Driver, error)
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
	// Parallel is how many changes of different zones may be under way at an account at the same time; 0 where that is not known.
	Parallel int

	caps          *change.Caps // of a profile
	registrarCaps *registrar.Caps
	parts         []profile.Part // of the credential; none where it is one text
	hosts         []profile.Part // further addresses that an account names
	rate          float64        // requests a second that are allowed; 0 where that is not known
}

// role returns which accounts can be of a kind.
func (k Kind) role() string {
	if k.Registrar != nil {
		return wire.RoleRegistrar
	}
	return wire.RoleProvider
}

// Connection is an account with its credential, which may be another than the stored one.
type Connection struct {
	ID      uint64
	Name    string
	Address string
	Secret  string
	Client  outcall.Client
}

// kinds are the kinds of accounts: those that are registered, and those that a profile describes.
type kinds struct {
	registered map[string]Kind
	folder     string
	runtime    *profile.Runtime
	log        *slog.Logger
	mu         sync.Mutex
	seen       string // names, sizes and times of the files when they were read
	profiles   map[string]*profile.Profile
	faulty     map[string]error // by file
}

// newKinds reads the profiles once, so that one with faults is reported at the start and not at night.
func newKinds(folder string, evaluator []string, log *slog.Logger) (*kinds, error) {
	k := &kinds{registered: map[string]Kind{}, folder: folder, log: log}
	if folder == "" {
		return k, nil
	}
	if len(evaluator) == 0 {
		return nil, fmt.Errorf("the setting profiles: this program has nothing to evaluate their expressions with")
	}
	k.runtime = profile.NewRuntime(jq.NewPool(evaluator, evaluation))
	return k, k.refresh()
}

func (k *kinds) register(name string, kind Kind) error {
	if k.profiles[name] != nil {
		return fmt.Errorf("the setting profiles: %q is the name of a kind that needs no profile", name)
	}
	k.registered[name] = kind
	return nil
}

// refresh reads the folder of profiles where a file came, went or changed. A profile with faults is left out, and logged once.
func (k *kinds) refresh() error {
	if k.folder == "" {
		return nil
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	entries, err := os.ReadDir(k.folder)
	if err != nil {
		return fmt.Errorf("the setting profiles: %w", err)
	}
	var seen strings.Builder
	for _, e := range entries {
		if info, err := e.Info(); err == nil && strings.HasSuffix(e.Name(), profile.Suffix) {
			fmt.Fprintf(&seen, "%s %d %d\n", e.Name(), info.Size(), info.ModTime().UnixNano())
		}
	}
	if k.profiles != nil && seen.String() == k.seen {
		return nil
	}
	profiles, faulty, err := profile.LoadAll(os.DirFS(k.folder))
	if err != nil {
		return fmt.Errorf("the setting profiles: %w", err)
	}
	for name := range profiles {
		if _, taken := k.registered[name]; taken {
			faulty[name+profile.Suffix] = fmt.Errorf("%q is the name of a kind that needs no profile", name)
			delete(profiles, name)
		}
	}
	for file, why := range faulty {
		k.log.Error("a profile has faults; accounts of its kind cannot be used until they are corrected", "file", file, "faults", why.Error())
	}
	k.profiles, k.faulty, k.seen = profiles, faulty, seen.String()
	return nil
}

// fault returns what is wrong with the profile of a kind, or nil.
func (k *kinds) fault(name string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.faulty[name+profile.Suffix]
}

func (k *kinds) close() {
	if k.runtime != nil {
		k.runtime.Close()
		k.runtime.Pool.Close()
	}
}

// find returns a kind by its name, as its profile is now.
func (k *kinds) find(name string) (kind Kind, known bool, err error) {
	if err := k.refresh(); err != nil {
		return kind, false, wire.Problemf(wire.Blocked, "%s.", wording.Sentence(err.Error()))
	}
	kind, known = k.known(name)
	if !known {
		if why := k.fault(name); why != nil {
			return kind, false, wire.Problemf(wire.Blocked, "The profile of kind %s has faults. Correct them, then repeat:\n%s", name, why)
		}
	}
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
	if p.OfRegistrar() {
		caps := p.RegistrarCaps()
		return Kind{About: p.About, registrarCaps: &caps, parts: p.Parts(), hosts: p.Hosts(), rate: p.Rate(), Registrar: func(c Connection) (registrar.Driver, error) { return profile.NewRegistrar(p, k.runtime, c.Client), nil }}, true
	}
	return Kind{About: p.About, Parallel: p.Caps.Parallel, caps: &p.Caps, parts: p.Parts(), hosts: p.Hosts(), rate: p.Rate(), Driver: func(c Connection) (provider.Driver, error) { return profile.New(p, k.runtime, c.Client), nil }}, true
}

// open lists the names of the kinds that take new accounts of a role.
func (k *kinds) open(role string) []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var names []string
	for name, kind := range k.registered {
		if !kind.Closed && kind.role() == role {
			names = append(names, name)
		}
	}
	for name, p := range k.profiles {
		if p.OfRegistrar() == (role == wire.RoleRegistrar) {
			names = append(names, name)
		}
	}
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

// credential puts a credential together as it is sealed: one text, or the parts of it by name.
func (k Kind) credential(secret string, parts map[string]string) (string, error) {
	if len(k.parts) == 0 {
		if secret == "" {
			return "", wire.Problemf(wire.Invalid, "The credential is missing.")
		}
		return secret, nil
	}
	if len(parts) == 0 && secret != "" {
		if err := json.Unmarshal([]byte(secret), &parts); err != nil {
			return "", wire.Problemf(wire.Invalid, "The credential of this kind has the parts %s. Give each by its name.", k.partNames())
		}
	}
	for _, p := range k.parts {
		if parts[p.Name] == "" {
			return "", wire.Problemf(wire.Invalid, "The part %q of the credential is missing. It has the parts %s.", p.Name, k.partNames())
		}
	}
	for name := range parts {
		if !slices.ContainsFunc(k.parts, func(p profile.Part) bool { return p.Name == name }) {
			return "", wire.Problemf(wire.Invalid, "%q is no part of the credential. It has the parts %s.", name, k.partNames())
		}
	}
	text, err := json.Marshal(parts)
	return string(text), err
}

// further checks the further addresses of an account, and returns them as they are stored.
func (k Kind) further(hosts map[string]string) (string, error) {
	for _, h := range k.hosts {
		if hosts[h.Name] == "" {
			return "", wire.Problemf(wire.Invalid, "Accounts of this kind name a further address %q. Give it: --host %s=https://….", h.Name, h.Name)
		}
	}
	for name, address := range hosts {
		if !slices.ContainsFunc(k.hosts, func(p profile.Part) bool { return p.Name == name }) {
			return "", wire.Problemf(wire.Invalid, "Accounts of this kind have no further address %q.", name)
		}
		if err := httpAddress(address); err != nil {
			return "", err
		}
	}
	text, err := json.Marshal(hosts)
	if len(hosts) == 0 {
		return "{}", err
	}
	return string(text), err
}

func (k Kind) partNames() string {
	names := make([]string, len(k.parts))
	for i, p := range k.parts {
		names[i] = p.Name
	}
	return strings.Join(names, ", ")
}

// wrong returns a credential of the same form that cannot be right.
func (k Kind) wrong(secret string) string {
	var parts map[string]string
	if len(k.parts) > 0 && json.Unmarshal([]byte(secret), &parts) == nil {
		at := k.parts[len(k.parts)-1].Name
		for _, p := range k.parts {
			if !strings.Contains(parts[p.Name], "-----BEGIN") { // a key with something behind it is still that key
				at = p.Name
			}
		}
		parts[at] += "-not"
		text, _ := json.Marshal(parts) // texts always encode
		return string(text)
	}
	if k.Wrong == nil {
		return secret + "-not"
	}
	return k.Wrong(secret)
}

// Kinds lists what accounts of a role can be connected to.
func (s *Accounts) Kinds(_ context.Context, role string) []wire.Kind {
	list := []wire.Kind{}
	if err := s.kinds.refresh(); err != nil {
		s.log.Error("profiles cannot be read", "error", err)
	}
	for _, name := range s.kinds.open(role) {
		if kind, ok := s.kinds.known(name); ok {
			v := wire.Kind{Name: name, Role: role, About: kind.About, Caps: kind.caps, Parts: []wire.CredentialPart{}, Hosts: []wire.CredentialPart{}, Registrar: viewRegistrarCaps(kind.registrarCaps)}
			for _, p := range kind.parts {
				v.Parts = append(v.Parts, wire.CredentialPart{Name: p.Name, About: p.About})
			}
			for _, h := range kind.hosts {
				v.Hosts = append(v.Hosts, wire.CredentialPart{Name: h.Name, About: h.About})
			}
			list = append(list, v)
		}
	}
	return list
}

func viewRegistrarCaps(c *registrar.Caps) *wire.RegistrarCaps {
	if c == nil {
		return nil
	}
	return &wire.RegistrarCaps{Activation: c.Activation, Delayed: c.Delayed, Least: c.Least, Most: c.Most, FinalDot: c.FinalDot, Again: c.Again, Hosts: c.Hosts, DS: string(c.DS), Locks: c.Locks}
}
