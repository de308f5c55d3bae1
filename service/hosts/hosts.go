package hosts

import (
	"context"
	"fmt"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// usualTTL is what hosts get that are given none, in seconds: short, so that a change is soon known everywhere.
const usualTTL = 60

// AddHost makes a name follow the address that is reported for it.
func (s *Hosts) AddHost(ctx context.Context, n wire.NewHost) (out wire.HostAdded, err error) {
	switch {
	case !n.V4 && !n.V6:
		return out, wire.Problemf(wire.Invalid, "A host follows an IPv4 address, an IPv6 address, or both.")
	case n.Name.IsWildcard() || n.Name.IsRoot():
		return out, wire.Problemf(wire.Invalid, "%s is no host: name one machine.", n.Name)
	case n.TTL > record.MaxTTL:
		return out, wire.Problemf(wire.Invalid, "A TTL of %d s is more than the protocol allows; 60 is usual.", n.TTL)
	case n.TTL == 0:
		n.TTL = usualTTL
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zoneAbove(tx, n.Name)
		if err != nil {
			return err
		}
		if z.RevisionID == nil {
			return wire.Problemf(wire.Blocked, "Zone %s has no contents yet. Import a zone file or apply a definition first.", z.Name())
		}
		contents, err := zones.Contents(tx, *z.RevisionID)
		if err != nil {
			return err
		}
		if err := zones.HostFits(z.Name(), contents, n.Name); err != nil {
			return err
		}
		out.Name = n.Name
		if out.Token, err = tx.AddHost(z.ID, n.Name, dynaddr.Families{V4: n.V4, V6: n.V6}, n.TTL, logbook.Actor(ctx)); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "host.added", n.Name.String(), fmt.Sprintf("in zone %s, TTL %d", z.Name().Unicode(), n.TTL))
	})
	return out, err
}

// zoneAbove finds the zone that a name lies in.
func zoneAbove(tx *store.Tx, name dnsname.Name) (z store.Zone, err error) {
	for at := name; !at.IsZero() && !at.IsRoot(); at = at.Parent() {
		if z, err = zones.ByName(tx, at); err == nil || !store.IsMissing(err) {
			return z, err
		}
	}
	return z, wire.Problemf(wire.NotFound, "%s lies in no zone that is managed here. Nothing changed. Add its zone first: beacon zone generate ZONE --new", name)
}

// RemoveHost ends that a name follows. What was reported last stays at the providers until their next sync, which
// brings back what the definition says.
func (s *Hosts) RemoveHost(ctx context.Context, name dnsname.Name) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := tx.Host(name)
		if err != nil {
			return err
		}
		if err := tx.RemoveHost(h); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "host.removed", name.String(), "it stood at "+addressText(h.At()))
	})
}

func addressText(a dynaddr.Addresses) string {
	var texts []string
	if a.V4.IsValid() {
		texts = append(texts, a.V4.String())
	}
	if a.V6.IsValid() {
		texts = append(texts, a.V6.String())
	}
	if len(texts) == 0 {
		return "no address"
	}
	return strings.Join(texts, " and ")
}
