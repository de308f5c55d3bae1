package zones

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/zonefile"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// noSet is the tag of a set that is not there.
const noSet = "none"

// tagOf returns the ETag of a set. It changes with its TTL and data.
func tagOf(s record.Set) string {
	if s.IsZero() {
		return noSet
	}
	sum := sha256.Sum256([]byte(s.String()))
	return hex.EncodeToString(sum[:10])
}

// Set returns a desired record set.
func (s *Zones) Set(ctx context.Context, by access.Caller, name dnsname.Name, key record.Key) (v wire.SetView, err error) {
	if err := wire.Permit(by, access.See, access.Set(name, key)); err != nil {
		return v, err
	}
	c, err := s.Wanted(ctx, name)
	if err != nil {
		return v, err
	}
	if v.Set = c.Get(key); v.IsZero() {
		return v, wire.Problemf(wire.NotFound, "Zone %s has no record set %s.", name.Unicode(), key)
	}
	v.Tag = tagOf(v.Set)
	return v, nil
}

// PutSet replaces or removes one desired record set by a revision of its own, and leaves the draft of the zone alone.
func (s *Zones) PutSet(by access.Caller, tx *store.Tx, r wire.SetRequest) (z store.Zone, out wire.SetWritten, err error) {
	if z, err = tx.LockZone(r.Zone); err != nil {
		return z, out, err
	}
	if err := notManaged(z); err != nil {
		return z, out, err
	}
	var before record.Contents
	if before, err = desired(tx, z); err != nil {
		return z, out, err
	}
	out = wire.SetWritten{Before: before.Get(r.Key), Findings: []rules.Found{}, Syncs: []wire.SyncView{}, Waiting: []wire.WaitingSync{}}
	switch tag := tagOf(out.Before); {
	case r.New && !out.Before.IsZero():
		return z, out, wire.Problemf(wire.Stale, "%s is there already: %s. Nothing changed.", r.Key, record.SetText(out.Before))
	case r.Tag != "" && r.Tag != "*" && r.Tag != tag, r.Tag == "*" && out.Before.IsZero():
		return z, out, wire.Problemf(wire.Stale, "%s is not what you read: it is %s now. Nothing changed. Read it again.", r.Key, record.SetText(out.Before))
	}
	if out.After, err = setOf(r, out.Before, before); err != nil {
		return z, out, err
	}
	after := before.Without(r.Key)
	if !out.After.IsZero() {
		after = after.With(out.After)
	}
	out.Findings = append(out.Findings, s.Judge(rules.Zone{Name: r.Zone, Contents: after, Only: r.Key})...)
	if err := sound(out.Findings, "This would make a zone that"); err != nil {
		return z, out, err
	}
	out.Tag, out.Changed = tagOf(out.After), !out.After.Equal(out.Before)
	if r.DryRun {
		return z, out, HostsFit(tx, z, after)
	}
	rev, _, err := s.Revise(by, tx, z, Accepted{Contents: after, Source: "record set " + r.Key.String(), Reason: r.Reason})
	if err != nil {
		return z, out, err
	}
	out.Revision = ViewRevision(rev)
	if !out.Changed {
		return z, out, nil
	}
	return z, out, logbook.Log(tx, by.Name, "set.changed", r.Zone.String(),
		fmt.Sprintf("%s: %s, before %s; revision %d", r.Key, record.SetText(out.After), record.SetText(out.Before), rev.Number))
}

// setOf returns the set that a request asks for; the zero set where it is to be removed.
func setOf(r wire.SetRequest, before record.Set, contents record.Contents) (record.Set, error) {
	if len(r.Data) == 0 {
		return record.Set{}, nil
	}
	ttl := r.TTL
	if ttl == 0 {
		ttl = before.TTL
	}
	if ttl == 0 {
		ttl = zonefile.CommonTTL(contents)
	}
	data := make([]record.Data, len(r.Data))
	for i, text := range r.Data {
		d, err := record.ParseData(r.Key.Type, text, r.Zone)
		if err != nil {
			return record.Set{}, wire.Problemf(wire.Invalid, "%s: %s. Nothing changed.", r.Key, err)
		}
		one := record.Record{Name: r.Key.Name, TTL: ttl, Type: r.Key.Type, Data: d}
		if err := (draft{Draft: wire.Draft{Zone: r.Zone}}).belongs(one); err != nil {
			return record.Set{}, err
		}
		data[i] = d
	}
	return record.NewSet(r.Key.Name, r.Key.Type, ttl, data...), nil
}
