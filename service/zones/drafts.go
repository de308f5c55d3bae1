package zones

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// draft is a draft while it is worked on.
type draft struct {
	wire.Draft
	contents record.Contents // as it would be
	edits    []store.DraftEdit
}

func draftTag(z store.Zone, rev uint32) string { return fmt.Sprintf("%d.%d", z.Draft, rev) }

// Draft shows the draft of a zone.
func (s *Zones) Draft(ctx context.Context, by access.Caller, name dnsname.Name) (d wire.Draft, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return d, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		full, err := s.draftOf(tx, z)
		d = full.Draft
		return err
	})
	return d, err
}

// draftOf puts a draft together of the zone's revision and the edits.
func (s *Zones) draftOf(tx *store.Tx, z store.Zone) (d draft, err error) {
	d.Draft = wire.Draft{Zone: z.Name(), ManagedBy: z.ManagedBy, Edits: []wire.DraftEdit{}, Overrun: []finding.Finding{}}
	var base record.Contents
	if z.RevisionID != nil {
		rev, err := tx.Revision(*z.RevisionID)
		if err != nil {
			return d, err
		}
		d.Revision = rev.Number
		if base, err = tx.Contents(rev.ID); err != nil {
			return d, err
		}
		if d.From, err = tx.Origins(rev.ID); err != nil {
			return d, err
		}
	}
	if d.From == nil {
		d.From = map[string]string{}
	}
	d.Tag = draftTag(z, d.Revision)
	if d.edits, err = tx.DraftEdits(z.ID); err != nil {
		return d, err
	}
	d.contents = base
	var put []record.Set
	var gone []record.Key
	declared := declaredBy(z.ZoneSettings().Attributes)
	for _, e := range d.edits {
		d.Edits = append(d.Edits, viewEdit(z.Name(), e))
		if now := base.Get(e.Key()); !now.Equal(e.Before) && !now.Equal(e.After) {
			d.Overrun = append(d.Overrun, finding.Finding{Code: "changed-since", Severity: finding.Error, Subject: e.Key().String(),
				Message: fmt.Sprintf("%s edited it when it was %s; by revision %d it is %s.", e.Author, record.SetText(e.Before), d.Revision, record.SetText(now)),
				Remedy:  "Discard this edit, look at the present records, and make it again."})
		}
		if now := declared[e.Key()]; e.Attributes != nil && !maps.Equal(now, e.Attributes.Before) && !maps.Equal(now, e.Attributes.After) {
			d.Overrun = append(d.Overrun, finding.Finding{Code: "changed-since", Severity: finding.Error, Subject: e.Key().String(),
				Message: fmt.Sprintf("The attributes of this set changed since %s edited them.", e.Author), Remedy: "Discard this edit, look at the present attributes, and make it again."})
		}
		if e.After.IsZero() {
			gone = append(gone, e.Key())
		} else {
			put = append(put, e.After)
		}
	}
	if len(d.edits) > 0 {
		d.contents = base.Without(gone...).With(put...)
	}
	d.Added, d.Removed, d.Same = record.Difference(base, d.contents)
	d.Findings = s.Judge(rules.Zone{Name: d.Zone, Contents: d.contents})
	return d, nil
}

func viewEdit(zone dnsname.Name, e store.DraftEdit) wire.DraftEdit {
	v := wire.DraftEdit{Before: e.Before, After: e.After, Author: e.Author, At: e.EditedAt, Attributes: []wire.AttributeChange{}}
	if e.Attributes != nil {
		v.Attributes = append(v.Attributes, attributeChanges(zone, e.Key(), e.Attributes.Before, e.Attributes.After)...)
	}
	return v
}

// EditDraft changes a zone's draft. The tag is that of the draft which was looked at: if somebody changed it since, nothing is
// done, and the Problem says to look again.
func (s *Zones) EditDraft(ctx context.Context, by access.Caller, name dnsname.Name, tag string, change wire.DraftChange) (d wire.Draft, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return d, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, seen, err := s.lockedDraft(tx, name, tag)
		if err != nil {
			return err
		}
		if err := notManaged(z); err != nil {
			return err
		}
		sets, err := seen.change(change)
		if err == nil {
			sets, err = seen.withAttributes(z, seen.contents, sets, change.Attributes)
		}
		if err != nil {
			return err
		}
		keys := slices.Clone(change.Undo)
		for _, set := range sets {
			keys = append(keys, set.key)
		}
		if err := wire.PermitSets(by, access.Edit, name, keys); err != nil {
			return err
		}
		for _, set := range sets {
			if err := seen.keep(by, tx, z, set); err != nil {
				return err
			}
		}
		if err := tx.DraftChanged(z.ID); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "draft.edited", name.String(), wording.Counted(len(sets)+len(change.Undo), "set")); err != nil {
			return err
		}
		for _, k := range change.Undo {
			if err := tx.DiscardDraftEdit(z.ID, k); err != nil {
				return err
			}
		}
		z.Draft++
		full, err := s.draftOf(tx, z)
		d = full.Draft
		return err
	})
	return d, err
}

// lockedDraft returns the draft of a zone, and keeps others from it, if it is still the one that was looked at.
func (s *Zones) lockedDraft(tx *store.Tx, name dnsname.Name, tag string) (z store.Zone, d draft, err error) {
	if z, err = tx.LockZone(name); err != nil {
		return z, d, err
	}
	if d, err = s.draftOf(tx, z); err != nil {
		return z, d, err
	}
	return z, d, d.isAt(tag)
}

func (d draft) isAt(tag string) error {
	if tag == d.Tag {
		return nil
	}
	who := ""
	for _, e := range d.Edits {
		who = e.Author
	}
	if who != "" {
		who = "; " + who + " has edits in it"
	}
	return wire.Problemf(wire.Stale, "The draft of %s has changed since you looked at it%s. Look at it again, then repeat what you did.", d.Zone.Unicode(), who)
}

// edited is a set as the draft has it, and as it shall be.
type edited struct {
	key           record.Key
	before, after record.Set
	attributes    *store.AttributeEdit // nil where they stay as they are
}

// change works out which sets become what.
func (d draft) change(c wire.DraftChange) (list []edited, err error) {
	now := d.contents
	touched := map[record.Key]bool{}
	put := func(k record.Key, after record.Set) {
		touched[k] = true
		if now = now.Without(k); !after.IsZero() {
			now = now.With(after)
		}
	}
	for _, e := range c.Records {
		if e.Before != nil {
			set := now.Get(e.Before.Key())
			i := slices.Index(set.Data, e.Before.Data)
			if i < 0 {
				return nil, wire.Problemf(wire.Stale, "%s is not there any more. Look at the zone again.", e.Before)
			}
			set.Data = slices.Delete(slices.Clone(set.Data), i, i+1)
			put(set.Key(), set)
		}
		if e.After != nil {
			if err := d.belongs(*e.After); err != nil {
				return nil, err
			}
			set := now.Get(e.After.Key())
			if slices.Contains(set.Data, e.After.Data) && set.TTL == e.After.TTL {
				return nil, wire.Problemf(wire.Invalid, "%s is there already.", e.After)
			}
			put(e.After.Key(), record.NewSet(e.After.Name, e.After.Type, e.After.TTL, append(slices.Clone(set.Data), e.After.Data)...))
		}
	}
	for _, e := range c.Sets {
		key := e.Before.Key()
		if e.Before.IsZero() {
			key = e.After.Key()
		}
		if set := now.Get(key); !set.Equal(e.Before) {
			return nil, wire.Problemf(wire.Stale, "%s is not what it was: it is %s now. Look at the zone again.", key, record.SetText(set))
		}
		if !e.After.IsZero() {
			for _, r := range e.After.Records() {
				if err := d.belongs(r); err != nil {
					return nil, err
				}
			}
			if e.After.Key() != key {
				put(key, record.Set{})
				key = e.After.Key()
			}
		}
		put(key, e.After)
	}
	for k := range touched {
		list = append(list, edited{key: k, before: d.contents.Get(k), after: now.Get(k)})
	}
	return list, nil
}

// belongs refuses records that cannot stand in the zone, or are not ours to write.
func (d draft) belongs(r record.Record) error {
	switch {
	case r.Name.IsZero() || r.Type == 0 || r.Data == "":
		return wire.Problemf(wire.Invalid, "A record has a name, a type and data.")
	case !r.Name.IsAtOrBelow(d.Zone):
		return wire.Problemf(wire.Invalid, "%s does not lie in the zone %s.", r.Name.Unicode(), d.Zone.Unicode())
	case r.Name == d.Zone && (r.Type == record.SOA || r.Type == record.NS):
		return wire.Problemf(wire.Invalid, "SOA and NS records of the apex belong to the provider that serves the zone.")
	}
	if _, err := record.ParseData(r.Type, string(r.Data), d.Zone); err != nil {
		return wire.Problemf(wire.Invalid, "%s %s: %s.", r.Name.Unicode(), r.Type, err)
	}
	return nil
}

// keep stores one edit, on top of an earlier one of the same set; one that leads back to where it began is dropped.
func (d draft) keep(by access.Caller, tx *store.Tx, z store.Zone, e edited) error {
	edit := store.DraftEdit{Before: e.before, After: e.after, Author: by.Name, Attributes: e.attributes}
	for _, earlier := range d.edits {
		if earlier.Key() != e.key {
			continue
		}
		edit.Before = earlier.Before
		switch {
		case earlier.Attributes == nil:
		case edit.Attributes == nil:
			edit.Attributes = earlier.Attributes
		default:
			edit.Attributes.Before = earlier.Attributes.Before
		}
	}
	if edit.Attributes != nil && maps.Equal(edit.Attributes.Before, edit.Attributes.After) {
		edit.Attributes = nil
	}
	if edit.Before.Equal(edit.After) && edit.Attributes == nil {
		return tx.DiscardDraftEdit(z.ID, e.key)
	}
	return tx.PutDraftEdit(z.ID, e.key, edit)
}

// Propose adds edits to the draft of a zone, but of sets that it edits already, and of those that were changed since. It returns how many it added.
func Propose(tx *store.Tx, id uint64, list []store.DraftEdit) (z store.Zone, proposed int, err error) {
	if z, err = ByID(tx, id); err == nil {
		z, err = tx.LockZone(z.Name())
	}
	if err != nil {
		return z, 0, err
	}
	now, err := desired(tx, z)
	if err != nil {
		return z, 0, err
	}
	edits, err := tx.DraftEdits(id)
	if err != nil {
		return z, 0, err
	}
	for _, e := range list {
		if !now.Get(e.Key()).Equal(e.Before) || slices.ContainsFunc(edits, func(o store.DraftEdit) bool { return o.Key() == e.Key() }) {
			continue
		}
		proposed++
		if err := tx.PutDraftEdit(id, e.Key(), e); err != nil {
			return z, 0, err
		}
	}
	return z, proposed, tx.DraftChanged(id)
}

// keys returns the sets that are edited.
func (d draft) keys() (list []record.Key) {
	for _, e := range d.edits {
		list = append(list, e.Key())
	}
	return list
}

// DiscardDraft forgets everything in a zone's draft.
func (s *Zones) DiscardDraft(ctx context.Context, by access.Caller, name dnsname.Name, tag string) error {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return err
	}
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, d, err := s.lockedDraft(tx, name, tag)
		if err != nil {
			return err
		}
		if err := wire.PermitSets(by, access.Edit, name, d.keys()); err != nil {
			return err
		}
		if err := tx.DiscardDraft(z.ID); err != nil {
			return err
		}
		if err := tx.DraftChanged(z.ID); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "draft.discarded", name.String(), wording.Counted(len(d.Edits), "set"))
	})
}

// AcceptDraft makes a draft what the zone should contain. Writing it to the providers is a sync as ever.
func (s *Zones) AcceptDraft(ctx context.Context, by access.Caller, name dnsname.Name, tag, why string) (out wire.Revision, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, d, err := s.lockedDraft(tx, name, tag)
		if err != nil {
			return err
		}
		if err := wire.PermitSets(by, access.Edit, name, d.keys()); err != nil {
			return err
		}
		switch {
		case len(d.Edits) == 0:
			return wire.Problemf(wire.Blocked, "The draft of %s is empty.", name.Unicode())
		case len(d.Overrun) > 0:
			return &wire.Problem{Kind: wire.Blocked, Message: "Some of these record sets have changed since then. The draft was not accepted.", Findings: d.Overrun}
		}
		if err := sound(d.Findings, "With this draft the zone would hold records that"); err != nil {
			return err
		}
		attributes := d.attributed(z)
		rev, _, err := s.Revise(by, tx, z, Accepted{Contents: d.contents, Source: "draft", Reason: why, Attributes: &attributes})
		if err != nil {
			return err
		}
		out = *ViewRevision(rev)
		if err := tx.DiscardDraft(z.ID); err != nil {
			return err
		}
		if err := tx.DraftChanged(z.ID); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "draft.accepted", name.String(), fmt.Sprintf("revision %d, %d records added, %d removed", rev.Number, len(d.Added), len(d.Removed)))
	})
	return out, err
}
