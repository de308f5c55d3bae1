package updates

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"

	"github.com/miekg/dns"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/service/accounts"
	"beacon/service/hosts"
	"beacon/service/logbook"
	"beacon/service/users"
	"beacon/store"
	"beacon/wire"
)

// Parts are what Updates work with.
type Parts struct {
	Logbook  *logbook.Book
	Log      *slog.Logger
	Accounts *accounts.Accounts
	Hosts    *hosts.Hosts
	Users    *users.Users
	Listens  bool         // there is a listener
	Name     dnsname.Name // under which clients find the listener; the zero Name where it has none
}

// Updates are the keys of dynamic updates, and the updates. It is safe for concurrent use.
type Updates struct {
	logbook  *logbook.Book
	log      *slog.Logger
	accounts *accounts.Accounts
	hosts    *hosts.Hosts
	users    *users.Users
	listens  bool
	name     dnsname.Name

	mu    sync.Mutex
	known map[string]known // keys that were looked up, by name
	looks chan struct{}    // one for each look-up that goes on
}

// New returns the updates of a database.
func New(p Parts) *Updates {
	return &Updates{logbook: p.Logbook, log: p.Log, accounts: p.Accounts, hosts: p.Hosts, users: p.Users, listens: p.Listens, name: p.Name, known: map[string]known{}, looks: make(chan struct{}, mostLooks)}
}

// algorithms are those of TSIG with the length of their output, in octets (RFC 8945 section 6). SHA-1 is for clients that know no other.
var algorithms = map[string]int{"hmac-sha256": 32, "hmac-sha224": 28, "hmac-sha384": 48, "hmac-sha512": 64, "hmac-sha1": 20}

// Keys returns at most limit keys behind a name that the caller may see, in the order of their names, and whether there are more.
func (u *Updates) Keys(ctx context.Context, by access.Caller, after string, limit int) (list []wire.TSIGKeyView, more bool, err error) {
	list = []wire.TSIGKeyView{}
	err = u.logbook.Look(ctx, func(tx *store.Tx) error {
		for {
			rows, err := accounts.TSIGKeysAfter(tx, after, limit+1)
			if err != nil {
				return err
			}
			for _, r := range rows {
				if len(list) == limit {
					more = true
					return nil
				}
				sees, err := hosts.Sees(tx, by, r.LocationID)
				if err != nil {
					return err
				}
				if after = r.Name; sees {
					list = append(list, view(r))
				}
			}
			if len(rows) <= limit {
				return nil
			}
		}
	})
	return list, more, err
}

func view(r store.TSIGKeyRow) wire.TSIGKeyView {
	return wire.TSIGKeyView{Name: strings.TrimSuffix(r.Name, "."), For: strings.TrimSuffix(r.Of(), "."), Algorithm: r.Algorithm, CreatedBy: r.CreatedBy, CreatedAt: r.CreatedAt,
		FirstUsedAt: r.FirstUsedAt, LastUsedAt: r.LastUsedAt, LastUsedFrom: r.LastUsedFrom}
}

// AddKey makes a key of an uplink, and returns its secret, which is shown this once.
func (u *Updates) AddKey(ctx context.Context, by access.Caller, n wire.NewTSIGKey) (out wire.TSIGKeyAdded, err error) {
	if n.Algorithm == "" {
		n.Algorithm = "hmac-sha256"
	}
	octets, ok := algorithms[n.Algorithm]
	if !ok {
		names := []string{}
		for name := range algorithms {
			names = append(names, name)
		}
		slices.Sort(names)
		return out, wire.Problemf(wire.Invalid, "%q is no algorithm of a TSIG key; those are %s. Nothing changed.", n.Algorithm, strings.Join(names, ", "))
	}
	given := n.Name != ""
	if !given {
		n.Name = strings.ReplaceAll(n.For, "/", "-")
	}
	name, err := dnsname.Parse(n.Name)
	if err != nil || name.IsRoot() {
		return out, wire.Problemf(wire.Invalid, "%q is no name of a key: it is written like a domain name. Nothing changed.", n.Name)
	}
	return out, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		of, err := hosts.UplinkFor(tx, by, access.Edit, n.For)
		if err != nil {
			return err
		}
		if name, err = freeName(tx, name, given); err != nil {
			return err
		}
		k := store.TSIGKey{Name: name.String(), Algorithm: n.Algorithm, UplinkID: of, CreatedBy: by.Name}
		secret, err := u.accounts.AddTSIGKey(tx, &k, octets)
		if err != nil {
			return err
		}
		plain := strings.TrimSuffix(name.String(), ".")
		out = wire.TSIGKeyAdded{Name: plain, For: n.For, Algorithm: n.Algorithm, Secret: secret,
			File: fmt.Sprintf("key %q {\n\talgorithm %s;\n\tsecret %q;\n};\n", plain, n.Algorithm, secret)}
		if !u.listens {
			out.Note = "No listener takes updates. Set primary.listen in the settings, and start the service again."
		}
		return logbook.Log(tx, by.Name, "tsig-key.added", plain, "for "+n.For)
	})
}

// mostOfOne bounds the keys that get a name of their own for one uplink.
const mostOfOne = 20

// freeName returns a name that no key has: the one that was given, or else one like it with a number, so that a client gets another key while it still has the first.
func freeName(tx *store.Tx, name dnsname.Name, given bool) (dnsname.Name, error) {
	label, rest, _ := strings.Cut(name.String(), ".")
	for i, at := 2, name; i < mostOfOne; i++ {
		_, err := accounts.TSIGKey(tx, at.String())
		if store.IsMissing(err) {
			return at, nil
		}
		if err != nil {
			return name, err
		}
		if given {
			break
		}
		if at, err = dnsname.Parse(fmt.Sprintf("%s-%d.%s", label, i, rest)); err != nil {
			return name, err
		}
	}
	plain := strings.TrimSuffix(name.String(), ".")
	return name, wire.Problemf(wire.Blocked, "There is a TSIG key %s already. Nothing changed. Give this one another name, or remove that one: beacon tsig-key remove %s.", plain, plain)
}

// RemoveKey deletes a key. Updates that it signs are refused from then on.
func (u *Updates) RemoveKey(ctx context.Context, by access.Caller, text string) error {
	name := dns.CanonicalName(text)
	err := u.logbook.Tx(ctx, func(tx *store.Tx) error {
		r, err := accounts.TSIGKey(tx, name)
		if err != nil {
			return err
		}
		if sees, err := hosts.Sees(tx, by, r.LocationID); err != nil || !sees {
			return hosts.Hidden(err, "TSIG key "+text)
		}
		if _, err := hosts.UplinkFor(tx, by, access.Edit, r.Of()); err != nil {
			return err
		}
		if err := accounts.RemoveTSIGKey(tx, r.TSIGKey); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "tsig-key.removed", strings.TrimSuffix(name, "."), "of "+r.Of())
	})
	u.forget(name)
	return err
}
