package zones

import (
	"context"
	"fmt"
	"slices"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// ImportZone accepts the records of a zone file as a new revision. SOA and apex NS belong to the provider that the
// file came from and are left out.
func (s *Zones) ImportZone(ctx context.Context, by access.Caller, in wire.Import) (wire.Imported, error) {
	return s.ImportWithin(ctx, by, in, nil)
}

// ImportWithin is ImportZone with something to be done in the same transaction, of which it is known what the zone has before and after.
func (s *Zones) ImportWithin(ctx context.Context, by access.Caller, in wire.Import, within func(tx *store.Tx, z store.Zone, before, after record.Contents) error) (wire.Imported, error) {
	if err := wire.Permit(by, access.Edit, access.Zone(in.Zone)); err != nil {
		return wire.Imported{}, err
	}
	read, faults := zonefile.Read(in.Text, zonefile.Options{Origin: in.Zone, File: in.File})
	if len(faults) == 0 {
		faults = read.Whole(in.Zone, in.File)
		if in.Partial {
			faults = read.Empty(in.File)
		}
	}
	if len(faults) > 0 {
		return wire.Imported{}, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The zone file has %s; nothing was changed.", wording.Counted(len(faults), "fault")), Faults: faults}
	}
	contents, left := WithoutProvidersOwn(in.Zone, read.Contents())
	out := wire.Imported{Zone: in.Zone, LeftOut: left}
	out.Findings = s.Judge(rules.Zone{Name: in.Zone, Contents: contents, Written: read.Records})
	if err := sound(out.Findings, "The zone file holds records that"); err != nil {
		return out, err
	}
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, known, err := FindOrAdd(tx, in.Zone, !in.DryRun)
		if err != nil {
			return err
		}
		if !known { // a zone is made
			if err := wire.Permit(by, access.Place, access.Zone(in.Zone)); err != nil {
				return err
			}
		}
		before, err := desired(tx, z)
		if err != nil {
			return err
		}
		if known {
			if err := notManaged(z); err != nil {
				return err
			}
			if err := HostsFit(tx, z, contents); err != nil {
				return err
			}
		}
		out.Added, out.Removed, out.Same = record.Difference(before, contents)
		out.Counts = wire.ImportCounts{Added: len(out.Added), Removed: len(out.Removed)}
		out.Added, out.Removed = slices.Clone(out.Added[:min(len(out.Added), wire.MostImported)]), slices.Clone(out.Removed[:min(len(out.Removed), wire.MostImported)])
		if within != nil {
			if err := within(tx, z, before, contents); err != nil {
				return err
			}
		}
		if in.DryRun {
			return nil
		}
		rev, _, err := s.Revise(by, tx, z, Accepted{Contents: contents, Source: "import of " + in.File, Reason: in.Reason})
		if err != nil {
			return err
		}
		out.Revision = ViewRevision(rev)
		return logbook.Log(tx, by.Name, "zone.imported", in.Zone.String(), fmt.Sprintf("%s: %d records, revision %d", in.File, contents.Len(), rev.Number))
	})
	return out, err
}

// WithoutProvidersOwn parts what a zone contains from what belongs to the provider that serves it.
func WithoutProvidersOwn(zone dnsname.Name, all record.Contents) (record.Contents, []wire.LeftOut) {
	left := []wire.LeftOut{}
	own := func(k record.Key) bool { return gather.Plumbing(zone, k) }
	for _, r := range all.Filter(own).Records() {
		left = append(left, wire.LeftOut{Record: r, Why: "belongs to the provider that the zone comes from; the new one brings its own"})
	}
	return all.Filter(func(k record.Key) bool { return !own(k) }), left
}
