// Package later keeps edits of a zone that are proposed as a draft once a domain has moved.
package later

import (
	"beacon/core/access"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
)

// Keep keeps what a zone loses by an import while it moves: as long as caches ask two sets of nameservers, both say the same, and what differs is
// proposed afterwards.
func Keep(tx *store.Tx, by access.Caller, z store.Zone, before, after record.Contents) error {
	for set := range before.Sets() {
		if now := after.Get(set.Key()); !now.Equal(set) {
			if err := tx.PutLaterEdit(z.ID, store.DraftEdit{Before: now, After: set, Author: by.Name}); err != nil {
				return err
			}
		}
	}
	return nil
}

// Sets returns the record sets that are proposed in the draft of a zone once no cache asks its old nameservers.
func Sets(tx *store.Tx, id uint64) ([]record.Set, error) {
	edits, err := tx.LaterEdits(id)
	list := make([]record.Set, len(edits))
	for i, e := range edits {
		list[i] = e.After
	}
	return list, err
}

// Propose puts the edits that were kept for afterwards into the draft of a zone. A set that was changed since, or that the draft has already, is left as it is.
func Propose(tx *store.Tx, id uint64) error {
	list, err := tx.LaterEdits(id)
	if err != nil || len(list) == 0 {
		return err
	}
	z, proposed, err := zones.Propose(tx, id, list)
	if err != nil {
		return err
	}
	if err := tx.ForgetLaterEdits(id); err != nil || proposed == 0 {
		return err
	}
	return logbook.Log(tx, access.Service.Name, "draft.proposed", z.Name().String(), wording.Counted(proposed, "set"))
}
