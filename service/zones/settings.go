package zones

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

func ViewSettings(z store.Zone) wire.ZoneSettings {
	settings := z.ZoneSettings()
	v := wire.ZoneSettings{Drift: settings.Drift, KeepExisting: settings.KeepExisting, Protect: []string{}, Websites: definition.WebsiteLabels(SitesOf(z), z.Name()), Attributes: []wire.SetAttribute{}}
	v.SOA = wire.SOAOf(settings.SOA)
	for _, p := range settings.Protect {
		v.Protect = append(v.Protect, p.String())
	}
	for _, a := range settings.Attributes {
		for _, name := range slices.Sorted(maps.Keys(a.Values)) {
			v.Attributes = append(v.Attributes, wire.SetAttribute{Set: labelOf(z.Name(), a.Key), Name: name, Value: a.Values[name]})
		}
	}
	return v
}

// HeldBy keeps which account at a registrar has the domain of a zone, where none is known yet, and reports whether it did.
func HeldBy(tx *store.Tx, name dnsname.Name, account uint64) (bool, error) {
	z, err := ByName(tx, name)
	if err != nil || z.RegistrarID != nil {
		return false, err
	}
	return true, tx.SetRegistrar(z.ID, account)
}

// readSettings returns what is kept of the given settings, or an error that says what is wrong with them.
func readSettings(v wire.ZoneSettings, zone dnsname.Name) (settings definition.Settings, err error) {
	drifts := []string{definition.DriftManual, definition.DriftRevert, definition.DriftAdopt}
	if !slices.Contains(drifts, v.Drift) {
		return settings, wire.Problemf(wire.Invalid, "%q is nothing that can become of changes made elsewhere. Use manual, revert or adopt.", v.Drift)
	}
	settings = definition.Settings{Drift: v.Drift, KeepExisting: v.KeepExisting}
	for _, text := range v.Protect {
		p, err := record.ParsePattern(text, zone)
		if err != nil {
			return settings, wire.Problemf(wire.Invalid, "%s", wording.Sentence(err.Error())+".")
		}
		settings.Protect = append(settings.Protect, p)
	}
	if v.Websites != nil {
		sites, err := definition.ParseWebsites(v.Websites, zone)
		if err != nil {
			return settings, wire.Problemf(wire.Invalid, "%s", wording.Sentence(err.Error())+".")
		}
		if !slices.Equal(sites, delegation.Sites(zone)) {
			settings.Websites = sites
		}
	}
	if settings.SOA, err = v.SOA.Parameters(); err != nil {
		return settings, wire.Problemf(wire.Invalid, "SOA record: %s.", err)
	}
	if problem := settings.SOA.Problem(); problem != "" {
		return settings, wire.Problemf(wire.Invalid, "SOA record: %s.", problem)
	}
	values := map[record.Key]map[string]string{}
	for _, e := range v.Attributes {
		key, err := definition.ParseKey(e.Set, zone)
		if err != nil || e.Name == "" {
			return settings, wire.Problemf(wire.Invalid, "%q is no record set with an attribute. Write it like www A, with relay and on.", e.Set)
		}
		if values[key] == nil {
			values[key] = map[string]string{}
		}
		values[key][e.Name] = e.Value
	}
	for key, of := range values {
		settings.Attributes = append(settings.Attributes, definition.SetAttributes{Key: key, Values: of})
	}
	slices.SortFunc(settings.Attributes, func(a, b definition.SetAttributes) int { return a.Key.Compare(b.Key) })
	return settings, nil
}

// SitesOf returns the names of a zone that carry a site.
func SitesOf(z store.Zone) []dnsname.Name {
	if said := z.ZoneSettings().Websites; said != nil {
		return said
	}
	return delegation.Sites(z.Name())
}

// SetZoneSettings changes the settings of a zone, if agreed returns no error for the present ones. Those of a zone that a definition
// file manages are changed there.
func (s *Zones) SetZoneSettings(ctx context.Context, by access.Caller, name dnsname.Name, v wire.ZoneSettings, agreed func(present wire.ZoneSettings) error) (out wire.ZoneSettings, err error) {
	if err := wire.Permit(by, access.Place, access.Zone(name)); err != nil {
		return out, err
	}
	settings, err := readSettings(v, name)
	if err != nil {
		return out, err
	}
	return out, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.LockZone(name)
		if err != nil {
			return err
		}
		if err := notManaged(z); err != nil {
			return err
		}
		if err := agreed(ViewSettings(z)); err != nil {
			return err
		}
		if err := s.reviseAttributes(by, tx, z, settings.Attributes); err != nil {
			return err
		}
		if err := tx.SetZoneSettings(z.ID, settings); err != nil {
			return err
		}
		if z, err = tx.Zone(name); err != nil {
			return err
		}
		out = ViewSettings(z)
		return logbook.Log(tx, by.Name, "zone.settings-changed", name.String(), said(settings))
	})
}

// said returns settings as the logbook has them.
func said(settings definition.Settings) string {
	attributes := 0
	for _, of := range settings.Attributes {
		attributes += len(of.Values)
	}
	text := fmt.Sprintf("drift: %s; %s protected, %s declared", settings.Drift, wording.Counted(len(settings.Protect), "pattern"), wording.Counted(attributes, "attribute"))
	if !settings.SOA.IsZero() {
		text += "; SOA: " + settings.SOA.String()
	}
	return text
}
