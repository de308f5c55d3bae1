package zones

import (
	"beacon/core/access"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// keepLater keeps what a zone loses by an import while it moves: as long as caches ask two sets of nameservers, both say the same, and what differs is
// proposed afterwards.
func keepLater(tx *store.Tx, by access.Caller, z store.Zone, before, after record.Contents, dry bool) error {
	row, err := tx.OpenHandover(z.ID)
	switch {
	case err != nil:
		return err
	case row.ID == 0:
		return wire.Problemf(wire.Blocked, "No handover of %s is open: there is no afterwards to propose your records in. Accept without it. Nothing was changed.", z.Name().Unicode())
	case dry:
		return nil
	}
	for set := range before.Sets() {
		if now := after.Get(set.Key()); !now.Equal(set) {
			if err := tx.PutLaterEdit(z.ID, store.DraftEdit{Before: now, After: set, Author: by.Name}); err != nil {
				return err
			}
		}
	}
	return nil
}

// Later returns the record sets that are proposed in the draft of a zone once no cache asks its old nameservers.
func Later(tx *store.Tx, id uint64) ([]record.Set, error) {
	edits, err := tx.LaterEdits(id)
	list := make([]record.Set, len(edits))
	for i, e := range edits {
		list[i] = e.After
	}
	return list, err
}

// ProposeLater puts the edits that were kept for afterwards into the draft of a zone. A set that was changed since, or that the draft has already, is left as it is.
func ProposeLater(tx *store.Tx, id uint64) error {
	list, err := tx.LaterEdits(id)
	if err != nil || len(list) == 0 {
		return err
	}
	z, err := ByID(tx, id)
	if err != nil {
		return err
	}
	if z, err = tx.LockZone(z.Name()); err != nil {
		return err
	}
	var now record.Contents
	if z.RevisionID != nil {
		if now, err = tx.Contents(*z.RevisionID); err != nil {
			return err
		}
	}
	edits, err := tx.DraftEdits(id)
	if err != nil {
		return err
	}
	drafted := map[record.Key]bool{}
	for _, e := range edits {
		drafted[e.Key()] = true
	}
	proposed := 0
	for _, e := range list {
		if drafted[e.Key()] || !now.Get(e.Key()).Equal(e.Before) {
			continue
		}
		proposed++
		if err := tx.PutDraftEdit(id, e.Key(), e); err != nil {
			return err
		}
	}
	if err := tx.ForgetLaterEdits(id); err != nil || proposed == 0 {
		return err
	}
	if err := tx.DraftChanged(id); err != nil {
		return err
	}
	return logbook.Log(tx, access.Service.Name, "draft.proposed", z.Name().String(), wording.Counted(proposed, "set"))
}
