package acts

import (
	"context"
	"encoding/json"

	"beacon/store"
	"beacon/wire"
)

// Act shows one act with its requests.
func (a *Acts) Act(ctx context.Context, id uint64) (v wire.Act, err error) {
	err = a.logbook.Look(ctx, func(tx *store.Tx) error {
		row, err := tx.ActByID(id)
		if err != nil {
			return err
		}
		v = view(row)
		requests, err := tx.ActsOf(id)
		for _, r := range requests {
			v.Requests = append(v.Requests, viewRequest(r))
		}
		return err
	})
	return v, err
}

// List shows what users asked for, newest first, from before an id; 0 begins with the newest.
func (a *Acts) List(ctx context.Context, subject string, before uint64, limit int) (list []wire.Act, err error) {
	err = a.logbook.Look(ctx, func(tx *store.Tx) error {
		rows, err := tx.UsersActs(subject, before, limit)
		list = make([]wire.Act, len(rows))
		for i, r := range rows {
			list[i] = view(r)
		}
		return err
	})
	return list, err
}

func view(a store.Act) wire.Act {
	v := wire.Act{ID: a.ID, Kind: a.Kind, Subject: a.Subject, State: wire.ActState(a.State), RequestedBy: a.RequestedBy, Reason: a.Reason, Message: a.Message, Problem: a.Problem,
		Findings: a.FindingList(), CreatedAt: a.CreatedAt, FinishedAt: a.FinishedAt, Requests: []wire.ActRequest{}}
	if a.Result == "" || a.Result == "null" {
		return v
	}
	switch a.Kind { // what is kept was written by jsonOf
	case wire.ActDelegate:
		v.Delegated = &wire.Delegated{}
		_ = json.Unmarshal([]byte(a.Result), v.Delegated)
	case wire.ActRetire:
		v.Retired = &wire.Retired{}
		_ = json.Unmarshal([]byte(a.Result), v.Retired)
	}
	return v
}

func viewRequest(a store.Act) wire.ActRequest {
	r := wire.ActRequest{ID: a.ID, Kind: a.Kind, State: wire.ActState(a.State), Problem: a.Problem, SentAt: a.CreatedAt, TookMS: -1}
	if a.FinishedAt != nil {
		r.TookMS = a.FinishedAt.Sub(a.CreatedAt).Milliseconds()
	}
	return r
}

// Before returns what acts of a kind saw before they changed a subject, newest first, as it was kept. Acts that changed nothing are left out.
func Before(tx *store.Tx, subject, kind string) (seen []string, err error) {
	rows, err := tx.UsersActs(subject, 0, 50)
	for _, r := range rows {
		if r.Kind == kind && r.Seen != "" {
			seen = append(seen, r.Seen)
		}
	}
	return seen, err
}
