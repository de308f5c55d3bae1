package logbook

import (
	"context"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/wording"
	"beacon/store"
	"beacon/wire"
)

// Entries returns a page of the logbook, newest first; requests to the outside that went well only if they are asked for.
func (b *Book) Entries(ctx context.Context, by access.Caller, subject string, requests bool, before uint64, limit int) (list []wire.Entry, err error) {
	if requests {
		b.FlushRequests()
	}
	err = b.Tx(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		rows, err := tx.Entries(subject, requests, access.May(by, access.Users, access.Everything).Allowed, before, min(max(limit, 1), 200))
		list = viewEntries(rows)
		return err
	})
	return list, err
}

// ShownTo returns what reports whether a caller may see a line: those of users and tokens only where it may manage users, those of zones where it may see
// them, and others where it may see everything.
func ShownTo(by access.Caller) func(wire.Entry) bool {
	users, scope := access.May(by, access.Users, access.Everything).Allowed, access.Where(by, access.See)
	return func(e wire.Entry) bool {
		if kind, _, _ := strings.Cut(e.Action, "."); !users && (kind == "user" || kind == "token" || kind == "access") {
			return false
		}
		if scope.All() {
			return true
		}
		name, err := dnsname.Parse(e.Subject)
		return err == nil && strings.HasSuffix(e.Subject, ".") && scope.Has(name)
	}
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
