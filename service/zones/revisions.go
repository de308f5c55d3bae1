package zones

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// Revisions returns a zone's accepted states, newest first.
func (s *Zones) Revisions(ctx context.Context, by access.Caller, name dnsname.Name) (list []wire.Revision, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return nil, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		rows, err := tx.Revisions(z.ID)
		list = make([]wire.Revision, len(rows))
		for i, r := range rows {
			list[i] = *ViewRevision(r)
		}
		return err
	})
	return list, err
}

// CompareRevisions returns what differs between two revisions; 0 stands for the empty zone before the first.
func (s *Zones) CompareRevisions(ctx context.Context, by access.Caller, name dnsname.Name, from, to uint32) (out wire.Compared, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		before, err := contentsOf(tx, z, from)
		if err != nil {
			return err
		}
		after, err := contentsOf(tx, z, to)
		if err != nil {
			return err
		}
		out = wire.Compared{From: from, To: to}
		out.Added, out.Removed, out.Same = record.Difference(before, after)
		out.Attributes, err = attributesBetween(tx, z, from, to)
		return err
	})
	return out, err
}

// attributesBetween returns which declared attributes differ between two revisions.
func attributesBetween(tx *store.Tx, z store.Zone, from, to uint32) ([]wire.AttributeChange, error) {
	var at [2]map[record.Key]map[string]string
	for i, number := range []uint32{from, to} {
		at[i] = map[record.Key]map[string]string{}
		if number == 0 {
			continue
		}
		rev, err := tx.RevisionByNumber(z.ID, number)
		if err != nil {
			return nil, err
		}
		declared, _ := rev.Declared()
		at[i] = declaredBy(declared)
	}
	list := []wire.AttributeChange{}
	keys := slices.SortedFunc(maps.Keys(at[0]), record.Key.Compare)
	for key := range at[1] {
		if at[0][key] == nil {
			keys = append(keys, key)
		}
	}
	slices.SortFunc(keys, record.Key.Compare)
	for _, key := range keys {
		list = append(list, attributeChanges(z.Name(), key, at[0][key], at[1][key])...)
	}
	return list, nil
}

func contentsOf(tx *store.Tx, z store.Zone, number uint32) (record.Contents, error) {
	if number == 0 {
		return record.Contents{}, nil
	}
	rev, err := tx.RevisionByNumber(z.ID, number)
	if err != nil {
		return record.Contents{}, err
	}
	return tx.Contents(rev.ID)
}

// mostHistory is how many revisions the history of a name goes back.
const mostHistory = 50

// NameHistory returns the revisions that changed the records of one name, newest first.
func (s *Zones) NameHistory(ctx context.Context, by access.Caller, zone, name dnsname.Name) (list []wire.NameChange, err error) {
	if err := wire.Permit(by, access.See, access.Zone(zone)); err != nil {
		return nil, err
	}
	if !name.IsAtOrBelow(zone) {
		return nil, wire.Problemf(wire.Invalid, "%s does not lie in the zone %s.", name.Unicode(), zone.Unicode())
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(zone)
		if err != nil {
			return err
		}
		revisions, err := tx.Revisions(z.ID)
		if err != nil {
			return err
		}
		list = []wire.NameChange{}
		own := func(number uint32) (record.Contents, error) {
			c, err := contentsOf(tx, z, number)
			return record.NewContents(append([]record.Record{}, c.At(name)...)), err
		}
		var after record.Contents
		for i, rev := range revisions[:min(len(revisions), mostHistory)] {
			if i == 0 {
				if after, err = own(rev.Number); err != nil {
					return err
				}
			}
			before, err := own(rev.Number - 1)
			if err != nil {
				return err
			}
			attributes, err := attributesBetween(tx, z, rev.Number-1, rev.Number)
			if err != nil {
				return err
			}
			attributes = slices.DeleteFunc(attributes, func(c wire.AttributeChange) bool {
				key, err := definition.ParseKey(c.Set, zone)
				return err != nil || key.Name != name
			})
			if added, removed, _ := record.Difference(before, after); len(added)+len(removed)+len(attributes) > 0 {
				list = append(list, wire.NameChange{Revision: *ViewRevision(rev), Added: added, Removed: removed, Attributes: attributes})
			}
			after = before
		}
		return nil
	})
	return list, err
}

// Restore makes what an earlier revision said what the zone should contain again, as a new revision. Writing it to the
// providers is a sync as ever.
func (s *Zones) Restore(ctx context.Context, by access.Caller, name dnsname.Name, number uint32, why string) (out wire.Revision, err error) {
	if err := wire.Permit(by, access.Edit, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.LockZone(name)
		if err != nil {
			return err
		}
		old, err := tx.RevisionByNumber(z.ID, number)
		if err != nil {
			return err
		}
		contents, err := tx.Contents(old.ID)
		if err != nil {
			return err
		}
		from, err := tx.Origins(old.ID)
		if err != nil {
			return err
		}
		again := Accepted{Contents: contents, Source: fmt.Sprintf("revision %d", number), Reason: why, From: sameOrigins(contents, from)}
		if declared, kept := old.Declared(); kept {
			again.Attributes = &declared
		}
		rev, made, err := s.Revise(by, tx, z, again)
		if err != nil {
			return err
		}
		out = *ViewRevision(rev)
		if !made {
			return wire.Problemf(wire.Blocked, "Revision %d already has the desired records of %s. Nothing changed.", number, name.Unicode())
		}
		return logbook.Log(tx, by.Name, "zone.restored", name.String(), fmt.Sprintf("to what revision %d said, as revision %d", number, rev.Number))
	})
	return out, err
}

func ViewRevision(r store.Revision) *wire.Revision {
	return &wire.Revision{Number: r.Number, Records: r.Records, Author: r.Author, Source: r.Source, Reason: r.Reason, CreatedAt: r.CreatedAt}
}
