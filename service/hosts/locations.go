package hosts

import (
	"context"
	"fmt"
	"regexp"
	"slices"

	"beacon/core/access"
	"beacon/core/dynaddr"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// label is what locations and uplinks are called.
var label = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// mostUplinks bounds the uplinks of a location.
const mostUplinks = 8

func soundLabel(what, name string) error {
	if !label.MatchString(name) {
		return wire.Problemf(wire.Invalid, "%q is no name of %s: lower-case letters, digits and hyphens, at most 63. Nothing changed.", name, what)
	}
	return nil
}

// AddLocation makes a location with its uplinks, and returns their tokens, which are shown this once.
func (s *Hosts) AddLocation(ctx context.Context, by access.Caller, n wire.NewLocation) (out wire.LocationAdded, err error) {
	if len(n.Uplinks) == 0 {
		n.Uplinks = []string{"main"}
	}
	if err := soundLabel("a location", n.Name); err != nil {
		return out, err
	}
	if err := soundPolicy(n.Policy); err != nil {
		return out, err
	}
	if len(n.Uplinks) > mostUplinks {
		return out, wire.Problemf(wire.Invalid, "A location has at most %d uplinks. Nothing changed.", mostUplinks)
	}
	if by.UserID == 0 && by.Name != access.Service.Name { // a host
		return out, wire.Permit(by, access.Edit, access.Everything)
	}
	out = wire.LocationAdded{Name: n.Name, Tokens: []wire.UplinkToken{}}
	return out, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		now := s.world.Now()
		l := store.Location{Name: &n.Name, Description: n.Description, Policy: jsonText(n.Policy), CreatedBy: by.Name, Since: &now}
		if err := tx.AddLocation(&l); err != nil {
			return err
		}
		for _, name := range n.Uplinks {
			token, err := addUplink(tx, l, name)
			if err != nil {
				return err
			}
			out.Tokens = append(out.Tokens, wire.UplinkToken{Uplink: name, Token: token})
		}
		return logbook.Log(tx, by.Name, "location.added", n.Name, "")
	})
}

func addUplink(tx *store.Tx, l store.Location, name string) (token string, err error) {
	if err := soundLabel("an uplink", name); err != nil {
		return "", err
	}
	return tx.AddUplink(&store.Uplink{LocationID: l.ID, Name: name})
}

// locationFor finds a location about which the caller may do something. One that it may not see is as if it were not there.
func locationFor(tx *store.Tx, by access.Caller, action access.Action, name string) (p place, err error) {
	l, err := tx.Location(name)
	if err != nil {
		return p, err
	}
	if p, err = placeAt(tx, l.ID, action != access.See); err != nil {
		return p, err
	}
	sees, does, missing, err := rights(tx, by, action, p)
	switch {
	case err != nil:
		return p, err
	case !sees:
		return p, fmt.Errorf("location %s: %w", name, store.ErrNotFound)
	case action != access.See && !does:
		return p, missing
	}
	return p, nil
}

// rights reports whether a caller may see a location, and change it. The user who added it may see it, and change it while no host follows it. A caller who may see one of
// its hosts sees the location; a caller who may change all of them may change it.
func rights(tx *store.Tx, by access.Caller, action access.Action, p place) (sees, does bool, missing, err error) {
	own := by.Token == "" && by.Name == p.CreatedBy || access.May(by, access.Users, access.Everything).Allowed
	missing = wire.Permit(by, action, access.Everything)
	sees, does = own, own || len(p.hosts) > 0 || missing == nil
	for _, h := range p.hosts {
		z, err := zones.ByID(tx, h.ZoneID)
		if err != nil {
			return false, false, nil, err
		}
		sees = sees || access.May(by, access.See, access.Object{Zone: z.Name(), Name: h.Name()}).Allowed
		if problem := wire.PermitSets(by, action, z.Name(), addresses(h.Name())); problem != nil {
			does, missing = false, problem
		}
	}
	return sees, does, missing, nil
}

// ChangeLocation replaces the settings of a location. The order of its uplinks says which of them is followed first.
func (s *Hosts) ChangeLocation(ctx context.Context, by access.Caller, n wire.LocationSettings) (out wire.LocationView, err error) {
	if err := soundPolicy(n.Policy); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		p, err := locationFor(tx, by, access.Edit, n.Name)
		if err != nil {
			return err
		}
		p.Description, p.Policy = n.Description, jsonText(n.Policy)
		if err := tx.SaveLocation(p.Location); err != nil {
			return err
		}
		if err := reorder(tx, p, n.Uplinks); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "location.changed", n.Name, ""); err != nil {
			return err
		}
		if err := s.settle(tx, p.ID, by.Name); err != nil {
			return err
		}
		if p, err = placeAt(tx, p.ID, false); err != nil {
			return err
		}
		out, err = s.viewPlace(tx, by, p)
		return err
	})
	s.spreadSoon()
	return out, err
}

// reorder gives the uplinks of a location other places; an empty order leaves them as they are.
func reorder(tx *store.Tx, p place, order []string) error {
	if len(order) == 0 {
		return nil
	}
	for _, name := range order {
		if !slices.ContainsFunc(p.uplinks, func(u store.Uplink) bool { return u.Name == name }) {
			return wire.Problemf(wire.Invalid, "Location %s has no uplink %q. Nothing changed.", p.Label(), name)
		}
	}
	for _, u := range p.uplinks {
		at := slices.Index(order, u.Name)
		if at < 0 {
			return wire.Problemf(wire.Invalid, "The order of uplinks lacks %q. Nothing changed.", u.Name)
		}
		u.Place = uint16(at)
		if err := tx.PlaceUplink(u); err != nil {
			return err
		}
	}
	return nil
}

// RemoveLocation deletes a location without hosts, and revokes the tokens of its uplinks.
func (s *Hosts) RemoveLocation(ctx context.Context, by access.Caller, name string) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		p, err := locationFor(tx, by, access.Edit, name)
		if err != nil {
			return err
		}
		if len(p.hosts) > 0 {
			return wire.Problemf(wire.Blocked, "Location %s has hosts, such as %s. Nothing changed. Remove them first: beacon host remove %s.", name, p.hosts[0].Name().Unicode(), p.hosts[0].Name().Unicode())
		}
		if err := tx.RemoveLocation(p.ID); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "location.removed", name, "")
	})
}

// AddUplink makes another uplink of a location, which is followed where no other reports, and returns its token.
func (s *Hosts) AddUplink(ctx context.Context, by access.Caller, n wire.NewUplink) (out wire.UplinkToken, err error) {
	return out, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		p, err := locationFor(tx, by, access.Edit, n.Location)
		if err != nil {
			return err
		}
		if len(p.uplinks) >= mostUplinks {
			return wire.Problemf(wire.Blocked, "Location %s has %d uplinks, which is the most. Nothing changed.", n.Location, mostUplinks)
		}
		out.Uplink = n.Name
		if out.Token, err = addUplink(tx, p.Location, n.Name); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "location.uplink-added", n.Location, n.Name)
	})
}

// ChangeUplink replaces the settings of an uplink.
func (s *Hosts) ChangeUplink(ctx context.Context, by access.Caller, n wire.UplinkSettings) (out wire.LocationView, err error) {
	if err := soundParameters(n.Parameters); err != nil {
		return out, err
	}
	return out, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		p, err := locationFor(tx, by, access.Edit, n.Location)
		if err != nil {
			return err
		}
		i, err := p.uplink(n.Name)
		if err != nil {
			return err
		}
		if err := nameParameters(tx, p.uplinks[i], n.Parameters); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "location.changed", n.Location, "parameters of uplink "+n.Name); err != nil {
			return err
		}
		if p, err = placeAt(tx, p.ID, false); err != nil {
			return err
		}
		out, err = s.viewPlace(tx, by, p)
		return err
	})
}

func soundParameters(p dynaddr.Parameters) error {
	if err := p.Check(); err != nil {
		return wire.Problemf(wire.Invalid, "parameters: %s. Nothing changed.", err)
	}
	return nil
}

func nameParameters(tx *store.Tx, u store.Uplink, p dynaddr.Parameters) error {
	if u.Parameters = jsonText(p); u.Parameters == "{}" {
		u.Parameters = ""
	}
	return tx.NameParameters(u)
}

// uplink returns where an uplink of a location is among the others.
func (p place) uplink(name string) (int, error) {
	i := slices.IndexFunc(p.uplinks, func(u store.Uplink) bool { return u.Name == name })
	if i < 0 {
		return i, wire.Problemf(wire.NotFound, "Location %s has no uplink %q. Nothing changed.", p.Label(), name)
	}
	return i, nil
}

// RemoveUplink deletes an uplink and revokes its token. The hosts follow the next one.
func (s *Hosts) RemoveUplink(ctx context.Context, by access.Caller, location, name string) error {
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		p, err := locationFor(tx, by, access.Edit, location)
		if err != nil {
			return err
		}
		i, err := p.uplink(name)
		if err != nil {
			return err
		}
		if len(p.uplinks) == 1 && len(p.hosts) > 0 {
			return wire.Problemf(wire.Blocked, "%s is the only uplink of %s, which has hosts. Nothing changed. Add another one first: beacon location add-uplink %s NAME.", name, location, location)
		}
		if err := tx.RemoveUplink(p.uplinks[i].ID); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "location.uplink-removed", location, name); err != nil {
			return err
		}
		return s.settle(tx, p.ID, by.Name)
	})
	s.spreadSoon()
	return err
}
