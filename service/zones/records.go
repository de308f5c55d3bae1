package zones

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/store"
	"beacon/wire"
)

// Records returns a page of what a zone should contain, in order of names: at least limit records where there are so many, and whole names.
// The cursor is empty for the first page. All pages are of the revision that the first one was of.
func (s *Zones) Records(ctx context.Context, by access.Caller, name dnsname.Name, cursor string, limit int) (page wire.Page[record.Record], err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return page, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		page = wire.Page[record.Record]{Items: []record.Record{}}
		z, err := tx.Zone(name)
		if err != nil || z.RevisionID == nil {
			return err
		}
		at, err := readCursor(tx, z, cursor)
		if err != nil {
			return err
		}
		c, next, err := tx.ContentsFrom(at.revision, at.chunk, limit)
		if err != nil {
			return err
		}
		owners, err := OwnersOf(tx, z.ID)
		if err != nil {
			return err
		}
		last := at.after
		if all := c.Records(); len(all) > 0 {
			last = all[len(all)-1].Name
		}
		onPage := func(n dnsname.Name) bool { return n.Compare(at.after) > 0 && (next < 0 || n.Compare(last) <= 0) }
		all := layers.WithReported(c, owners.Layers()).Records()
		all = slices.DeleteFunc(all, func(r record.Record) bool { return !onPage(r.Name) })
		page.Items = append(page.Items, all...)
		if next >= 0 {
			page.Next = fmt.Sprintf("%d.%d.%s", at.revision, next, last)
		}
		return nil
	})
	return page, err
}

// place is where a page of records begins.
type place struct {
	revision uint64
	chunk    int
	after    dnsname.Name // the last name of the page before
}

func readCursor(tx *store.Tx, z store.Zone, cursor string) (p place, err error) {
	if cursor == "" {
		return place{revision: *z.RevisionID}, nil
	}
	wrong := wire.Problemf(wire.Invalid, "The cursor %q is not one that a page returned. Leave it out to begin with the first page.", cursor)
	parts := strings.SplitN(cursor, ".", 3)
	if len(parts) != 3 {
		return p, wrong
	}
	var nameErr error
	p.revision, err = strconv.ParseUint(parts[0], 10, 64)
	if err == nil {
		p.chunk, err = strconv.Atoi(parts[1])
	}
	if p.after, nameErr = dnsname.Parse(parts[2]); err != nil || nameErr != nil || p.chunk < 0 {
		return p, wrong
	}
	rev, err := tx.Revision(p.revision)
	if err != nil || rev.ZoneID != z.ID {
		return p, wrong
	}
	return p, nil
}
