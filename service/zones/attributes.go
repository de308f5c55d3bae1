package zones

import (
	"maps"
	"slices"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/store"
	"beacon/wire"
)

// declaredBy returns the values of declared attributes by set and name.
func declaredBy(list []definition.SetAttributes) map[record.Key]map[string]string {
	values := map[record.Key]map[string]string{}
	for _, a := range list {
		values[a.Key] = a.Values
	}
	return values
}

// declaredList is the other way round, sorted; sets without attributes are left out.
func declaredList(values map[record.Key]map[string]string) []definition.SetAttributes {
	list := []definition.SetAttributes{}
	for _, key := range slices.SortedFunc(maps.Keys(values), record.Key.Compare) {
		if len(values[key]) > 0 {
			list = append(list, definition.SetAttributes{Key: key, Values: values[key]})
		}
	}
	return list
}

// labelOf writes a set as a definition does, such as www A.
func labelOf(zone dnsname.Name, key record.Key) string {
	label := "@"
	if key.Name != zone {
		label = key.Name.Relative(zone)
	}
	return label + " " + key.Type.String()
}

// attributeChanges returns what differs between the attributes of a set.
func attributeChanges(zone dnsname.Name, key record.Key, before, after map[string]string) (list []wire.AttributeChange) {
	names := slices.Sorted(maps.Keys(before))
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if _, both := before[name]; !both {
			names = append(names, name)
		}
	}
	for _, name := range names {
		if before[name] != after[name] {
			list = append(list, wire.AttributeChange{Set: labelOf(zone, key), Name: name, Before: before[name], After: after[name]})
		}
	}
	return list
}

// attributed returns the attributes that a draft would leave declared: those of the zone, with the edits, and without those of sets that it removes.
func (d draft) attributed(z store.Zone) []definition.SetAttributes {
	values := declaredBy(z.ZoneSettings().Attributes)
	for _, e := range d.edits {
		if e.Attributes != nil {
			values[e.Key()] = e.Attributes.After
		}
		if e.After.IsZero() {
			delete(values, e.Key())
		}
	}
	return declaredList(values)
}

// withAttributes adds what a change does to the attributes of sets to the edits that it makes.
func (d draft) withAttributes(z store.Zone, now record.Contents, list []edited, changes []wire.SetAttribute) ([]edited, error) {
	values := declaredBy(d.attributed(z))
	for _, c := range changes {
		key, err := definition.ParseKey(c.Set, z.Name())
		if err != nil || c.Name == "" {
			return nil, wire.Problemf(wire.Invalid, "%q is no record set with an attribute. Write it like www A, with relay and on.", c.Set)
		}
		at := slices.IndexFunc(list, func(e edited) bool { return e.key == key })
		set := now.Get(key)
		if at >= 0 {
			set = list[at].after
		} else {
			list = append(list, edited{key: key, before: set, after: set})
			at = len(list) - 1
		}
		if set.IsZero() {
			return nil, wire.Problemf(wire.Invalid, "There is no set %s in %s. Nothing changed.", c.Set, z.Name().Unicode())
		}
		if list[at].attributes == nil {
			list[at].attributes = &store.AttributeEdit{Before: values[key], After: maps.Clone(values[key])}
		}
		if list[at].attributes.After == nil {
			list[at].attributes.After = map[string]string{}
		}
		if c.Value == "" {
			delete(list[at].attributes.After, c.Name)
		} else {
			list[at].attributes.After[c.Name] = c.Value
		}
	}
	return list, nil
}

// reviseAttributes keeps attributes that were changed in the settings as a revision of their own.
func (s *Zones) reviseAttributes(by access.Caller, tx *store.Tx, z store.Zone, list []definition.SetAttributes) error {
	if z.RevisionID == nil {
		return nil
	}
	contents, err := tx.Contents(*z.RevisionID)
	if err != nil {
		return err
	}
	_, _, err = s.Revise(by, tx, z, Accepted{Contents: contents, Source: "settings", Attributes: &list})
	return err
}
