package zones

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
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

// mostReplaced bounds the records of one operation.
const mostReplaced = 50_000

// Replace changes all records that a search finds, in all zones, as one operation that can be undone. It is done wholly or
// not at all.
func (s *Zones) Replace(ctx context.Context, by access.Caller, r wire.ReplaceRequest) (out wire.Replaced, err error) {
	if r.To == "" && r.TTL == nil {
		return out, wire.Problemf(wire.Invalid, "Name the new data or the new TTL of the records.")
	}
	queries, err := queriesOf(r.Search)
	if err != nil {
		return out, err
	}
	scope := access.Where(by, access.See)
	for i := range queries {
		queries[i].In = &scope
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		out = wire.Replaced{Zones: []wire.ReplacedZone{}, Skipped: []dnsname.Name{}}
		byZone, order, err := everyHit(tx, queries)
		if err != nil {
			return err
		}
		var led []string
		var refused []finding.Finding
		var done []store.OperationZone
		for _, name := range order {
			z, err := tx.LockZone(name)
			if err != nil {
				return err
			}
			if z.ManagedBy != "" {
				out.Skipped = append(out.Skipped, name)
				led = append(led, fmt.Sprintf("%s (%s)", name.Unicode(), z.ManagedBy))
				continue
			}
			one, contents, count, err := replaceIn(r, tx, z, byZone[name])
			if err != nil {
				return err
			}
			if len(one.Steps) == 0 {
				continue
			}
			if err := wire.PermitSets(by, access.Edit, name, record.ChangedKeys(one.Steps)); err != nil {
				return err
			}
			refused = append(refused, rules.Errors(s.Judge(rules.Zone{Name: name, Contents: contents}))...)
			out.Records += count
			if !r.DryRun && len(refused) == 0 {
				rev, _, err := s.Revise(by, tx, z, Accepted{Contents: contents, Source: "operation", Reason: r.Reason})
				if err != nil {
					return err
				}
				one.Revision = rev.Number
				done = append(done, store.OperationZone{ZoneID: z.ID, RevisionID: rev.ID, Steps: one.Steps})
			}
			out.Zones = append(out.Zones, one)
		}
		out.Digest = digestOfZones(out.Zones)
		switch {
		case len(refused) > 0:
			return &wire.Problem{Kind: wire.Invalid, Message: "With this change zones would hold records that no nameserver could serve; nothing was changed.", Findings: refused}
		case len(led) > 0 && !r.SkipManaged && !r.DryRun:
			return wire.Problemf(wire.Blocked, "%d of the zones are managed by definition files: %s. Nothing changed. Change those files, detach the zones, or skip them: --skip-managed", len(led), joinSome(led))
		case len(out.Zones) == 0 && !r.DryRun:
			return wire.Problemf(wire.NotFound, "No record is found that would change.")
		case r.DryRun:
			return nil
		case r.Expect != "" && r.Expect != out.Digest:
			return wire.Problemf(wire.Stale, "What is found is not what was shown any more; nothing was changed. Look at it again.")
		}
		what := wording.Counted(out.Records, "record") + " in " + wording.Counted(len(out.Zones), "zone")
		if r.To != "" {
			what += ": to " + r.To
		}
		if r.TTL != nil {
			what += fmt.Sprintf(", TTL %d", *r.TTL)
		}
		out.Operation, err = s.operation(by, tx, store.Operation{What: what}, done)
		return err
	})
	return out, err
}

func (s *Zones) operation(by access.Caller, tx *store.Tx, o store.Operation, done []store.OperationZone) (*wire.Operation, error) {
	o.Author = by.Name
	if err := tx.AddOperation(&o, done); err != nil {
		return nil, err
	}
	view := wire.Operation(o)
	return &view, logbook.Log(tx, o.Author, "bulk-change.done", fmt.Sprintf("operation %d", o.ID), o.What)
}

func joinSome(list []string) string {
	const most = 5
	text := ""
	for i, item := range list {
		switch {
		case i == most:
			return fmt.Sprintf("%s and %d others", text, len(list)-most)
		case i > 0:
			text += ", "
		}
		text += item
	}
	return text
}

// everyHit returns all records that queries find, by zone, in the order of the zones: always the same, so that two operations
// lock them in the same order.
func everyHit(tx *store.Tx, queries []store.Query) (map[dnsname.Name][]record.Record, []dnsname.Name, error) {
	byZone := map[dnsname.Name][]record.Record{}
	var order []dnsname.Name
	count := 0
	for _, q := range queries {
		q.Limit = mostReplaced
		hits, next, err := tx.Search(q)
		switch {
		case errors.Is(err, store.ErrTooBroad), next != "", count+len(hits) > mostReplaced:
			return nil, nil, wire.Problemf(wire.Invalid, "More records match than one bulk change can have (%d). Narrow the search.", mostReplaced)
		case err != nil:
			return nil, nil, err
		}
		count += len(hits)
		for _, h := range hits {
			if byZone[h.Zone] == nil {
				order = append(order, h.Zone)
			}
			if !slices.Contains(byZone[h.Zone], h.Record) {
				byZone[h.Zone] = append(byZone[h.Zone], h.Record)
			}
		}
	}
	slices.SortFunc(order, dnsname.Name.Compare)
	return byZone, order, nil
}

// replaceIn works out what becomes of the records found in one zone, and how many of them change.
func replaceIn(r wire.ReplaceRequest, tx *store.Tx, z store.Zone, found []record.Record) (one wire.ReplacedZone, after record.Contents, count int, err error) {
	one = wire.ReplacedZone{Zone: z.Name(), Steps: []record.SetChange{}}
	if z.RevisionID == nil {
		return one, after, 0, nil
	}
	before, err := tx.Contents(*z.RevisionID)
	if err != nil {
		return one, after, 0, err
	}
	changed := map[record.Key]record.Set{}
	var order []record.Key
	for _, rec := range found {
		set, touched := changed[rec.Key()]
		if !touched {
			set = before.Get(rec.Key())
			order = append(order, rec.Key())
		}
		i := slices.Index(set.Data, rec.Data)
		if i < 0 { // a reported address, or the rows are behind the revision: it was changed a moment ago
			continue
		}
		data := slices.Clone(set.Data)
		if r.To != "" {
			if data[i], err = rec.Data.Saying(rec.Type, r.To, z.Name()); err != nil {
				return one, after, 0, wire.Problemf(wire.Invalid, "%s in %s cannot become that: %s.", rec.Key(), z.Name().Unicode(), err)
			}
		}
		ttl := set.TTL
		if r.TTL != nil {
			ttl = *r.TTL
		}
		count++
		changed[rec.Key()] = record.NewSet(set.Name, set.Type, ttl, data...)
	}
	var put []record.Set
	for _, k := range order {
		if was, set := before.Get(k), changed[k]; !set.IsZero() && !set.Equal(was) {
			one.Steps = append(one.Steps, record.SetChange{Before: was, After: set})
			put = append(put, set)
		}
	}
	return one, before.With(put...), count, nil
}

func digestOfZones(zones []wire.ReplacedZone) string {
	h := sha256.New()
	for _, z := range zones {
		_, _ = fmt.Fprintf(h, "%s\n", z.Zone)
		for _, step := range z.Steps {
			_, _ = fmt.Fprintf(h, "%s\n%s\n", step.Before, step.After)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// UndoOperation puts back what an operation changed, in all its zones, as another operation. A set that was changed since is in
// the way: then nothing is put back.
func (s *Zones) UndoOperation(ctx context.Context, by access.Caller, id uint64) (out wire.Replaced, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		out = wire.Replaced{Zones: []wire.ReplacedZone{}, Skipped: []dnsname.Name{}}
		o, err := tx.LockOperation(id)
		if err != nil {
			return err
		}
		if o.UndoneID != nil {
			return wire.Problemf(wire.Blocked, "Operation %d has been undone already, by operation %d.", id, *o.UndoneID)
		}
		zones, err := tx.OperationZones(id)
		if err != nil {
			return err
		}
		var found []finding.Finding
		var done []store.OperationZone
		for _, was := range zones {
			one, back, problems, err := s.undoIn(by, tx, was, id)
			if err != nil {
				return err
			}
			found = append(found, problems...)
			out.Zones, done = append(out.Zones, one), append(done, back)
			out.Records += len(one.Steps)
		}
		if len(found) > 0 {
			return &wire.Problem{Kind: wire.Blocked, Message: fmt.Sprintf("Operation %d cannot be undone as a whole: what it made was changed since. Nothing was changed.", id), Findings: found}
		}
		out.Operation, err = s.operation(by, tx, store.Operation{What: fmt.Sprintf("undoes operation %d: %s", id, o.What), UndoesID: &id}, done)
		return err
	})
	return out, err
}

func (s *Zones) undoIn(by access.Caller, tx *store.Tx, was store.OperationZone, id uint64) (one wire.ReplacedZone, back store.OperationZone, found []finding.Finding, err error) {
	z, err := tx.ZoneByID(was.ZoneID)
	if err != nil {
		return one, back, nil, err
	}
	if z, err = tx.LockZone(z.Name()); err != nil {
		return one, back, nil, err
	}
	one.Zone = z.Name()
	now, err := tx.Contents(*z.RevisionID)
	if err != nil {
		return one, back, nil, err
	}
	var put []record.Set
	if err := wire.PermitSets(by, access.Edit, z.Name(), record.ChangedKeys(was.Steps)); err != nil {
		return one, back, nil, err
	}
	for _, step := range was.Steps {
		if set := now.Get(step.After.Key()); !set.Equal(step.After) {
			found = append(found, finding.Finding{Code: "changed-since", Severity: finding.Error, Subject: step.After.Key().String(),
				Message: fmt.Sprintf("Operation %d made it %s; now it is %s.", id, record.SetText(step.After), record.SetText(set)), Remedy: "Change this one by hand."})
			continue
		}
		one.Steps = append(one.Steps, record.SetChange{Before: step.After, After: step.Before})
		put = append(put, step.Before)
	}
	if len(found) > 0 {
		return one, back, found, nil
	}
	rev, _, err := s.Revise(by, tx, z, Accepted{Contents: now.With(put...), Source: fmt.Sprintf("undo of operation %d", id)})
	one.Revision = rev.Number
	return one, store.OperationZone{ZoneID: z.ID, RevisionID: rev.ID, Steps: one.Steps}, nil, err
}
