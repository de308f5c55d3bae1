package logbook

import (
	"context"

	"beacon/core/wording"
	"beacon/store"
	"beacon/wire"
)

// Entries returns a page of the logbook, newest first; requests to the outside that went well only if they are asked for.
func (b *Book) Entries(ctx context.Context, subject string, requests bool, before uint64, limit int) (list []wire.Entry, err error) {
	err = b.Tx(ctx, func(tx *store.Tx) error {
		rows, err := tx.Entries(subject, requests, before, min(max(limit, 1), 200))
		list = viewEntries(rows)
		return err
	})
	return list, err
}

// View returns a line as it is shown, with its sentence.
func View(r store.Entry) wire.Entry {
	return wire.Entry{ID: r.ID, Seq: r.Seq, At: r.At, Actor: r.Actor, Action: r.Action, Subject: r.Subject, Detail: r.Detail, Text: wording.Happened(r.Actor, r.Action, r.Subject)}
}

func viewEntries(rows []store.Entry) []wire.Entry {
	list := make([]wire.Entry, len(rows))
	for i, r := range rows {
		list[i] = View(r)
	}
	return list
}
