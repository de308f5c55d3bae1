package secondaries

import (
	"context"
	"net"
	"net/netip"
	"net/url"
	"strings"

	"github.com/miekg/dns"

	"beacon/clock"
	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/primary"
	"beacon/service/accounts"
	"beacon/service/zones"
	"beacon/store"
)

// Settings say where nameservers fetch zones and send notifications, and where dynamic updates are taken.
type Settings struct {
	Listen string       `yaml:"listen"` // host and port, over UDP and TCP; empty for nowhere
	Name   dnsname.Name `yaml:"name"`   // under which clients of dynamic updates find it; empty where they are told its address
}

// Serve answers secondaries until ctx ends.
func (s *Secondaries) Serve(ctx context.Context) {
	server := &primary.Server{Source: transfers{s}, Updates: s.updates, Log: s.log}
	for ctx.Err() == nil {
		if err := server.Serve(ctx, s.listen, nil); err != nil && ctx.Err() == nil {
			s.log.Error("zones cannot be given to secondaries", "listen", s.listen, "error", err)
			_ = clock.Pause(ctx, 5*outcall.Backoff(2))
		}
		server = &primary.Server{Source: transfers{s}, Updates: s.updates, Log: s.log}
	}
}

// transfers is what this instance gives to secondaries: what the database holds, so that all instances give the same
// under the same serial.
type transfers struct{ s *Secondaries }

// Key looks a key up in the accounts at which a zone is placed.
func (t transfers) Key(ctx context.Context, zone dnsname.Name, name string) (secret string, ok bool) {
	var list []store.Account
	err := t.s.store.Tx(ctx, func(tx *store.Tx) error {
		list = nil
		if p, err := tx.PublishedZone(zone); err == nil {
			a, err := accounts.ByID(tx, p.AccountID)
			list = append(list, a)
			return err
		} else if !store.IsMissing(err) {
			return err
		}
		z, err := zones.ByName(tx, zone)
		if err != nil {
			return err
		}
		placements, err := zones.Placements(tx, z.ID)
		if err != nil {
			return err
		}
		for _, p := range placements {
			a, err := accounts.ByID(tx, p.AccountID)
			if err != nil {
				return err
			}
			if a.Kind == "update" {
				list = append(list, a)
			}
		}
		return nil
	})
	if err != nil && !store.IsMissing(err) {
		t.s.log.Error("keys cannot be read", "error", err)
	}
	for _, a := range list {
		if text, err := t.s.accounts.Secret(a); err == nil {
			if parts := strings.SplitN(text, ":", 3); len(parts) == 3 && dns.CanonicalName(parts[1]) == name {
				return parts[2], true
			}
		}
	}
	return "", false
}

func (t transfers) accounts(ctx context.Context, kinds ...string) (list []store.Account, err error) {
	err = t.s.store.Tx(ctx, func(tx *store.Tx) error {
		list = nil
		all, err := accounts.Providers(tx)
		for _, a := range all {
			for _, kind := range kinds {
				if a.Kind == kind {
					list = append(list, a)
				}
			}
		}
		return err
	})
	return list, err
}

// For returns a zone to a client that has the key of its account and asks from one of its addresses.
func (t transfers) For(ctx context.Context, name dnsname.Name, key string, from netip.Addr) (z primary.Zone, ok bool, err error) {
	var row store.Published
	var a store.Account
	var v store.PublishedVersion
	err = t.s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if row, err = tx.PublishedZone(name); err != nil {
			return err
		}
		if a, err = accounts.ByID(tx, row.AccountID); err != nil {
			return err
		}
		v, err = tx.Version(row.ID, row.Serial)
		return err
	})
	if store.IsMissing(err) {
		return z, false, nil
	}
	if err != nil {
		return z, false, err
	}
	p, err := t.s.publisherWith(a)
	if err != nil {
		return z, false, err
	}
	for _, sec := range p.list {
		ok = ok || sec.at.Addr() == from
	}
	if !ok || p.key.KeyName != key {
		return z, false, nil
	}
	z = primary.Zone{Name: name, Serial: v.Serial, Nameservers: p.names()}
	z.Contents, z.SOA, err = published(v)
	return z, err == nil, err
}

// Since returns the versions of a published zone from a serial on.
func (t transfers) Since(ctx context.Context, name dnsname.Name, serial uint32) (list []primary.Zone, err error) {
	var rows []store.PublishedVersion
	var a store.Account
	err = t.s.store.Tx(ctx, func(tx *store.Tx) error {
		p, err := tx.PublishedZone(name)
		if err != nil {
			return err
		}
		if a, err = accounts.ByID(tx, p.AccountID); err != nil {
			return err
		}
		rows, err = tx.Versions(p.ID)
		return err
	})
	if err != nil {
		return nil, err
	}
	p, err := t.s.publisherWith(a)
	if err != nil {
		return nil, err
	}
	for _, v := range rows {
		if len(list) == 0 && v.Serial != serial {
			continue
		}
		c, desired, err := published(v)
		if err != nil {
			return nil, err
		}
		list = append(list, primary.Zone{Name: name, Serial: v.Serial, Nameservers: p.names(), Contents: c, SOA: desired})
	}
	return list, nil
}

// Notified has a zone looked at that its own nameserver says has changed.
func (t transfers) Notified(ctx context.Context, name dnsname.Name, from netip.Addr) bool {
	accounts, err := t.accounts(ctx, "update")
	if err != nil {
		return false
	}
	for _, a := range accounts {
		u, err := url.Parse(a.Address)
		if err != nil {
			continue
		}
		at, err := netip.ParseAddr(u.Hostname())
		if err != nil {
			if found, lookErr := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname()); lookErr == nil && len(found) > 0 {
				at = found[0].Unmap()
			}
		}
		if at != from {
			continue
		}
		if told := t.s.syncs.LookSoon(ctx, name, a); told {
			return true
		}
	}
	return false
}
