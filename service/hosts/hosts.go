package hosts

import (
	"context"
	"fmt"
	"strings"

	"beacon/core/access"
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
func (s *Hosts) AddHost(ctx context.Context, by access.Caller, n wire.NewHost) (out wire.HostAdded, err error) {
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
		if err == nil {
			err = wire.PermitSets(by, access.Edit, z.Name(), addresses(n.Name))
		}
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
		if out.Token, err = tx.AddHost(z.ID, n.Name, dynaddr.Families{V4: n.V4, V6: n.V6}, n.TTL, by.Name); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "host.added", n.Name.String(), fmt.Sprintf("in zone %s, TTL %d", z.Name().Unicode(), n.TTL))
	})
	return out, err
}

// addresses returns the record sets that a host has.
func addresses(name dnsname.Name) []record.Key {
	return []record.Key{{Name: name, Type: record.A}, {Name: name, Type: record.AAAA}}
}

// hostIn is a host with the name of its zone.
type hostIn struct {
	store.Host
	zone dnsname.Name
}

// hostFor finds a host that the caller may see. One that it may not see is as if it were not there.
func hostFor(tx *store.Tx, by access.Caller, name dnsname.Name) (h hostIn, err error) {
	if h.Host, err = tx.Host(name); err != nil {
		return h, err
	}
	z, err := zones.ByID(tx, h.ZoneID)
	if h.zone = z.Name(); err == nil && !access.May(by, access.See, access.Object{Zone: h.zone, Name: name}).Allowed {
		err = fmt.Errorf("host %s: %w", name.Unicode(), store.ErrNotFound)
	}
	return h, err
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
func (s *Hosts) RemoveHost(ctx context.Context, by access.Caller, name dnsname.Name) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := hostFor(tx, by, name)
		if err != nil {
			return err
		}
		if err := wire.PermitSets(by, access.Edit, h.zone, addresses(name)); err != nil {
			return err
		}
		if err := tx.RemoveHost(h.Host); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "host.removed", name.String(), "it stood at "+addressText(h.At()))
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
