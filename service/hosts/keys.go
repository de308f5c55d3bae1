package hosts

import (
	"errors"
	"fmt"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// UplinkFor returns the uplink that reports for a host with a location of its own, or that LOCATION/UPLINK names, if the caller may do something about it.
func UplinkFor(tx *store.Tx, by access.Caller, action access.Action, of string) (id uint64, err error) {
	if location, uplink, cut := strings.Cut(of, "/"); cut {
		p, err := locationFor(tx, by, action, location)
		if err != nil {
			return 0, err
		}
		i, err := p.uplink(uplink)
		if err != nil {
			return 0, err
		}
		return p.uplinks[i].ID, nil
	}
	name, err := dnsname.Parse(of)
	if err != nil {
		return 0, wire.Problemf(wire.Invalid, "%q is neither a host nor LOCATION/UPLINK. Nothing changed.", of)
	}
	h, err := hostFor(tx, by, name)
	if err != nil {
		return 0, err
	}
	if err := wire.PermitSets(by, action, h.zone, addresses(name)); err != nil {
		return 0, err
	}
	p, err := placeAt(tx, h.LocationID, false)
	if err != nil {
		return 0, err
	}
	if label := p.Label(); label != "" {
		return 0, wire.Problemf(wire.Blocked, "%s follows the location %s. Nothing changed. Name one of its uplinks, such as %s/%s.", name.Unicode(), label, label, firstUplink(p))
	}
	return p.uplinks[0].ID, nil
}

func firstUplink(p place) string {
	if len(p.uplinks) == 0 {
		return "main"
	}
	return p.uplinks[0].Name
}

// Sees reports whether a caller may see a location.
func Sees(tx *store.Tx, by access.Caller, location uint64) (bool, error) {
	p, err := placeAt(tx, location, false)
	if err != nil {
		return false, err
	}
	sees, _, _, err := rights(tx, by, access.See, p)
	return sees, err
}

// Hidden returns the error for what a caller may not see, as if it were not there; err where that went wrong.
func Hidden(err error, what string) error {
	if err != nil {
		return err
	}
	return fmt.Errorf("%s: %w", what, store.ErrNotFound)
}

// ZonesOf returns the zones that hosts of a location are in.
func ZonesOf(tx *store.Tx, location uint64) (list []store.Zone, err error) {
	hosts, err := tx.HostsAt(location)
	if err != nil {
		return nil, err
	}
	seen := map[uint64]bool{}
	for _, h := range hosts {
		if seen[h.ZoneID] {
			continue
		}
		seen[h.ZoneID] = true
		z, wrong := zones.ByID(tx, h.ZoneID)
		list, err = append(list, z), errors.Join(err, wrong)
	}
	return list, err
}
