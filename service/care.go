package service

import (
	"context"
	"fmt"
	"slices"

	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/store"
	"beacon/wire"
)

// CareView is how a zone is looked after, as it is shown and given.
type CareView struct {
	Drift    string     `json:"drift"`     // what becomes of changes made elsewhere: "ask", "put back" or "adopt"
	OnlyOurs bool       `json:"only_ours"` // sets that were there before us are left, whatever is wanted
	Protect  []string   `json:"protect"`   // patterns of sets whose going needs a yes of its own
	Sites    []string   `json:"sites"`     // names that carry a site, @ for the apex; those that usually do where it is left out
	Extras   []ExtraSet `json:"extras"`    // attributes that sets shall have at providers that know them
}

// ExtraSet is one attribute of one set.
type ExtraSet struct {
	Set   string `json:"set"` // name below the zone, and type, such as "www A"
	Name  string `json:"name"`
	Value string `json:"value"`
}

func viewCare(z store.Zone) CareView {
	care := z.Care()
	v := CareView{Drift: care.Drift, OnlyOurs: care.OnlyOurs, Protect: []string{}, Sites: definition.SiteLabels(sitesOf(z), z.Name()), Extras: []ExtraSet{}}
	for _, p := range care.Protect {
		v.Protect = append(v.Protect, p.String())
	}
	for _, a := range care.Extras {
		label := "@"
		if a.Key.Name != z.Name() {
			label = a.Key.Name.Relative(z.Name())
		}
		for _, name := range sortedKeys(a.Values) {
			v.Extras = append(v.Extras, ExtraSet{label + " " + a.Key.Type.String(), name, a.Values[name]})
		}
	}
	return v
}

// read makes of what was given what is kept, or says what is wrong with it.
func (v CareView) read(zone dnsname.Name) (care definition.Care, err error) {
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

// sitesOf gives the names of a zone that carry a site.
func sitesOf(z store.Zone) []dnsname.Name {
	if said := z.Care().Sites; said != nil {
		return said
	}
	return delegation.Sites(z.Name())
}

// SetCare changes how a zone is looked after. What a definition file leads is changed there.
func (s *Service) SetCare(ctx context.Context, name dnsname.Name, v CareView) (out CareView, err error) {
	care, err := v.read(name)
	if err != nil {
		return out, err
	}
	return out, s.tx(ctx, func(tx *store.Tx) error {
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
		out = viewCare(z)
		return tx.Log(actor(ctx), "zone.care", name.String(), fmt.Sprintf("drift: %s; %s protected, %s declared", care.Drift, wording.Counted(len(care.Protect), "pattern"), wording.Counted(len(v.Extras), "attribute")))
	})
}
