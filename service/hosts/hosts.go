package hosts

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// usualTTL is what hosts get that are given none, in seconds: short, so that a change is soon known everywhere.
const usualTTL = 60

// AddHost makes a name follow a location: one that is named, or one of its own with one uplink, whose token is returned.
func (s *Hosts) AddHost(ctx context.Context, by access.Caller, n wire.NewHost) (out wire.HostAdded, err error) {
	if n.TTL == 0 {
		n.TTL = usualTTL
	}
	if err := soundHost(n.Name, n.V4, n.V6, n.TTL, n.Below, n.Policy); err != nil {
		return out, err
	}
	if err := s.ownParameters(n.Location != "", n.Parameters); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := fits(tx, by, n.Name)
		if err != nil {
			return err
		}
		h := store.Host{ZoneID: z.ID, NameKey: n.Name.Key(), FollowsV4: n.V4, FollowsV6: n.V6, TTL: n.TTL, CreatedBy: by.Name, Policy: jsonText(n.Policy), State: "{}", Place: belowText(n.Below)}
		if n.Location == "" {
			if out.Token, err = s.ownLocation(tx, by, &h, n.Parameters); err != nil {
				return err
			}
		} else {
			p, err := locationFor(tx, by, access.Edit, n.Location)
			if err != nil {
				return err
			}
			h.LocationID = p.ID
		}
		if err := tx.AddHost(&h); err != nil {
			return err
		}
		out.Name, out.Location = n.Name, n.Location
		text := fmt.Sprintf("in zone %s, TTL %d", z.Name().Unicode(), n.TTL)
		if n.Location != "" {
			text += ", at location " + n.Location
		}
		if err := logbook.Log(tx, by.Name, "host.added", n.Name.String(), text); err != nil {
			return err
		}
		return s.settle(tx, h.LocationID, by.Name)
	})
	s.spreadSoon()
	return out, err
}

// ownLocation makes a location for a host alone, with one uplink.
func (s *Hosts) ownLocation(tx *store.Tx, by access.Caller, h *store.Host, names dynaddr.Parameters) (token string, err error) {
	now := s.world.Now()
	l := store.Location{Policy: "{}", CreatedBy: by.Name, Since: &now}
	if err := tx.AddLocation(&l); err != nil {
		return "", err
	}
	h.LocationID = l.ID
	u := store.Uplink{LocationID: l.ID, Name: "main"}
	if token, err = tx.AddUplink(&u); err != nil {
		return "", err
	}
	return token, nameParameters(tx, u, names)
}

// ownParameters returns a problem with the parameters of a host, which only one with an uplink of its own has.
func (s *Hosts) ownParameters(located bool, p dynaddr.Parameters) error {
	if located && (p.V4 != "" || p.V6 != "" || p.Prefix != "" || len(p.Ignore) > 0) {
		return wire.Problemf(wire.Invalid, "A host of a location has no parameters of its own; its uplinks have. Nothing changed. See beacon location set --help.")
	}
	return soundParameters(p)
}

// settle works out what the hosts of a location have, after something else than a report changed about them.
func (s *Hosts) settle(tx *store.Tx, location uint64, actor string) error {
	p, err := placeAt(tx, location, true)
	if err != nil {
		return err
	}
	now := s.world.Now()
	d := s.decide(p, now)
	if err := s.foresee(tx, &p, d, now); err != nil {
		return err
	}
	moved, err := s.carry(tx, &p, d, store.Report{Actor: actor})
	if err != nil {
		return err
	}
	return tx.AcceptReports(moved)
}

// soundHost returns a problem with what a host is to be.
func soundHost(name dnsname.Name, v4, v6 bool, ttl uint32, below *dynaddr.Place, policy dynaddr.Policy) error {
	switch {
	case !v4 && !v6:
		return wire.Problemf(wire.Invalid, "A host follows an IPv4 address, an IPv6 address, or both.")
	case name.IsWildcard() || name.IsRoot():
		return wire.Problemf(wire.Invalid, "%s is no host: name one machine.", name)
	case ttl > record.MaxTTL:
		return wire.Problemf(wire.Invalid, "A TTL of %d s is more than the protocol allows; 60 is usual.", ttl)
	case below != nil && !v6:
		return wire.Problemf(wire.Invalid, "A place below an IPv6 prefix needs a host that follows IPv6.")
	case below != nil && below.Interface == dynaddr.Interface{}:
		return wire.Problemf(wire.Invalid, "A place below an IPv6 prefix needs an interface part, such as ::1:2:3:4.")
	}
	return soundPolicy(policy)
}

func soundPolicy(p dynaddr.Policy) error {
	if err := p.Check(); err != nil {
		return wire.Problemf(wire.Invalid, "%s. Nothing changed.", err)
	}
	return nil
}

// fits returns the zone of a name that may become a host there.
func fits(tx *store.Tx, by access.Caller, name dnsname.Name) (z store.Zone, err error) {
	if z, err = zoneAbove(tx, name); err == nil {
		err = wire.PermitSets(by, access.Edit, z.Name(), addresses(name))
	}
	if err != nil {
		return z, err
	}
	if z.RevisionID == nil {
		return z, wire.Problemf(wire.Blocked, "Zone %s has no contents yet. Import a zone file or apply a definition first.", z.Name())
	}
	contents, err := zones.Contents(tx, *z.RevisionID)
	if err != nil {
		return z, err
	}
	return z, zones.HostFits(z.Name(), contents, name)
}

func belowText(p *dynaddr.Place) string {
	if p == nil {
		return ""
	}
	return jsonText(p)
}

func jsonText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types only
	}
	return string(text)
}

// ChangeHost replaces the settings of a host.
func (s *Hosts) ChangeHost(ctx context.Context, by access.Caller, n wire.HostSettings) (out wire.HostView, err error) {
	if n.TTL == 0 {
		n.TTL = usualTTL
	}
	if err := soundHost(n.Name, n.V4, n.V6, n.TTL, n.Below, n.Policy); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := hostFor(tx, by, n.Name)
		if err != nil {
			return err
		}
		if err := wire.PermitSets(by, access.Edit, h.zone, addresses(n.Name)); err != nil {
			return err
		}
		l, err := tx.LocationByID(h.LocationID)
		if err != nil {
			return err
		}
		if err := s.ownParameters(l.Name != nil, n.Parameters); err != nil {
			return err
		}
		if l.Name == nil {
			list, err := tx.Uplinks(l.ID)
			if err != nil {
				return err
			}
			if err := nameParameters(tx, list[0], n.Parameters); err != nil {
				return err
			}
		}
		ttl := h.TTL
		h.FollowsV4, h.FollowsV6, h.TTL, h.Policy, h.Place = n.V4, n.V6, n.TTL, jsonText(n.Policy), belowText(n.Below)
		if err := tx.SaveHost(h.Host); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "host.changed", n.Name.String(), fmt.Sprintf("TTL %d", n.TTL)); err != nil {
			return err
		}
		if err := s.settle(tx, h.LocationID, by.Name); err != nil {
			return err
		}
		if h.TTL != ttl && h.ReportID != nil {
			placements, err := zones.Placements(tx, h.ZoneID)
			if err != nil {
				return err
			}
			if err := sync.AwaitHosts(tx, by.Name, placed(placements)...); err != nil {
				return err
			}
		}
		out, err = s.viewHost(tx, h.Host, 100)
		return err
	})
	s.spreadSoon()
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

// RemoveHost deletes a host, and revokes its token where it has one of its own. What was reported last stays at the providers until their next sync,
// which writes the desired records again.
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
		return logbook.Log(tx, by.Name, "host.removed", name.String(), "its address was "+addressText(h.At()))
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
