package updates

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/primary"
	"beacon/service/accounts"
	"beacon/service/hosts"
	"beacon/store"
)

// known is a key that was looked up.
type known struct {
	primary.UpdateKey
	id       uint64
	uplink   uint64
	location uint64
	until    time.Time // real time
}

// How many names of keys are looked up at the same time, how long a message waits for that, for how long a key that is known is not looked up again, and how many are kept. Names that no
// key has cost a look-up each: a flood of them keeps nobody out whose key is known.
const (
	mostLooks = 4
	lookWait  = 200 * time.Millisecond
	knownFor  = time.Minute
	mostKnown = 10_000
)

// UpdateKey returns the key of a name.
func (u *Updates) UpdateKey(ctx context.Context, name string) (primary.UpdateKey, bool) {
	k, ok := u.key(ctx, name)
	return k.UpdateKey, ok
}

func (u *Updates) key(ctx context.Context, name string) (known, bool) {
	u.mu.Lock()
	k, ok := u.known[name]
	u.mu.Unlock()
	if ok && time.Now().Before(k.until) {
		return k, true
	}
	select {
	case u.looks <- struct{}{}:
		defer func() { <-u.looks }()
	case <-time.After(lookWait):
		return k, false
	}
	var row store.TSIGKeyRow
	err := u.logbook.Look(ctx, func(tx *store.Tx) (err error) { row, err = accounts.TSIGKey(tx, name); return err })
	if store.IsMissing(err) {
		u.forget(name)
		return k, false
	}
	var secret string
	if err == nil {
		secret, err = u.accounts.TSIGSecret(row.TSIGKey)
	}
	if err != nil {
		u.log.Error("a TSIG key cannot be read", "key", name, "error", err)
		return k, false
	}
	k = known{primary.UpdateKey{Name: row.Name, Algorithm: dns.CanonicalName(row.Algorithm), Secret: secret}, row.ID, row.UplinkID, row.LocationID, time.Now().Add(knownFor)}
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.known) >= mostKnown {
		clear(u.known)
	}
	u.known[name] = k
	return k, true
}

// forget drops what is known of a key.
func (u *Updates) forget(name string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	delete(u.known, name)
}

// current returns a key as it is stored now, which may be gone since its signature was verified.
func (u *Updates) current(ctx context.Context, name string, from netip.Addr) (k known, there bool, err error) {
	k, there = u.key(ctx, name)
	if !there {
		return k, false, nil
	}
	err = u.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := accounts.TSIGKey(tx, name)
		if err != nil {
			return err
		}
		if row.ID != k.id {
			return store.ErrNotFound
		}
		return accounts.TSIGKeyUsed(tx, k.id, from.String())
	})
	if store.IsMissing(err) {
		u.forget(name)
		return k, false, nil
	}
	return k, err == nil, err
}

// Start returns the SOA record of the zone with hosts of the key that a name lies in.
func (u *Updates) Start(ctx context.Context, key string, name dnsname.Name) (*dns.SOA, bool, error) {
	k, there := u.key(ctx, key)
	if !there {
		return nil, false, nil
	}
	var at dnsname.Name
	var revision uint64
	err := u.logbook.Look(ctx, func(tx *store.Tx) error {
		list, err := hosts.ZonesOf(tx, k.location)
		for _, z := range list {
			if name.IsAtOrBelow(z.Name()) && (at.IsZero() || z.Name().IsAtOrBelow(at)) {
				at = z.Name()
				if z.RevisionID != nil {
					revision = *z.RevisionID
				}
			}
		}
		return err
	})
	if err != nil || at.IsZero() {
		return nil, false, err
	}
	return primary.StartOf(at, u.name, uint32(revision)), true, nil
}

// Update takes an update as a report of the uplink of its key.
func (u *Updates) Update(ctx context.Context, key, signature string, m *dns.Msg, from netip.Addr) (rcode int, lease uint32, err error) {
	if k, known := u.key(ctx, key); known && !u.users.MayUpdate(k.id) {
		return dns.RcodeRefused, 0, nil
	}
	k, there, err := u.current(ctx, key, from)
	switch {
	case err != nil:
		return dns.RcodeServerFailure, 0, err
	case !there:
		return dns.RcodeRefused, 0, nil
	}
	a, err := u.hosts.Update(ctx, hosts.Update{Message: m, Key: k.id, KeyName: key, Signature: signature, Location: k.location, Uplink: k.uplink, Peer: from})
	if errors.Is(err, context.Canceled) {
		err = nil
	}
	return a.Rcode, a.Lease, err
}
