package zones

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

func ViewCare(z store.Zone) wire.CareView {
	care := z.Care()
	v := wire.CareView{Drift: care.Drift, OnlyOurs: care.OnlyOurs, Protect: []string{}, Sites: definition.SiteLabels(SitesOf(z), z.Name()), Extras: []wire.ExtraSet{}}
	for _, p := range care.Protect {
		v.Protect = append(v.Protect, p.String())
	}
	for _, a := range care.Extras {
		label := "@"
		if a.Key.Name != z.Name() {
			label = a.Key.Name.Relative(z.Name())
		}
		for _, name := range slices.Sorted(maps.Keys(a.Values)) {
			v.Extras = append(v.Extras, wire.ExtraSet{Set: label + " " + a.Key.Type.String(), Name: name, Value: a.Values[name]})
		}
	}
	return v
}

// readCare returns what is kept of the given settings, or an error that says what is wrong with them.
func readCare(v wire.CareView, zone dnsname.Name) (care definition.Care, err error) {
	drifts := []string{definition.DriftAsk, definition.DriftPutBack, definition.DriftAdopt}
	if !slices.Contains(drifts, v.Drift) {
		return care, wire.Problemf(wire.Invalid, "%q is nothing that can become of changes made elsewhere. Use ask, put back or adopt.", v.Drift)
	}
	care = definition.Care{Drift: v.Drift, OnlyOurs: v.OnlyOurs}
	for _, text := range v.Protect {
		p, err := record.ParsePattern(text, zone)
		if err != nil {
			return care, wire.Problemf(wire.Invalid, "%s", wording.Sentence(err.Error())+".")
		}
		care.Protect = append(care.Protect, p)
	}
	if v.Sites != nil {
		sites, err := definition.ParseSites(v.Sites, zone)
		if err != nil {
			return care, wire.Problemf(wire.Invalid, "%s", wording.Sentence(err.Error())+".")
		}
		if !slices.Equal(sites, delegation.Sites(zone)) {
			care.Sites = sites
		}
	}
	values := map[record.Key]map[string]string{}
	for _, e := range v.Extras {
		key, err := definition.ParseKey(e.Set, zone)
		if err != nil || e.Name == "" {
			return care, wire.Problemf(wire.Invalid, "%q is no record set with an attribute. Write it like www A, with relay and on.", e.Set)
		}
		if values[key] == nil {
			values[key] = map[string]string{}
		}
		values[key][e.Name] = e.Value
	}
	for key, of := range values {
		care.Extras = append(care.Extras, definition.Attributes{Key: key, Values: of})
	}
	slices.SortFunc(care.Extras, func(a, b definition.Attributes) int { return a.Key.Compare(b.Key) })
	return care, nil
}

// SitesOf gives the names of a zone that carry a site.
func SitesOf(z store.Zone) []dnsname.Name {
	if said := z.Care().Sites; said != nil {
		return said
	}
	return delegation.Sites(z.Name())
}

// SetCare changes how a zone is looked after. What a definition file leads is changed there.
func (s *Zones) SetCare(ctx context.Context, name dnsname.Name, v wire.CareView) (out wire.CareView, err error) {
	care, err := readCare(v, name)
	if err != nil {
		return out, err
	}
	return out, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.LockZone(name)
		if err != nil {
			return err
		}
		if err := ledByNobody(z); err != nil {
			return err
		}
		if err := tx.SetCare(z.ID, care); err != nil {
			return err
		}
		if z, err = tx.Zone(name); err != nil {
			return err
		}
		out = ViewCare(z)
		return logbook.Log(tx, logbook.Actor(ctx), "zone.care", name.String(), fmt.Sprintf("drift: %s; %s protected, %s declared", care.Drift, wording.Counted(len(care.Protect), "pattern"), wording.Counted(len(v.Extras), "attribute")))
	})
}
