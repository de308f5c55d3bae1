package acts

import (
	"context"
	"encoding/json"
	"fmt"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/wording"
	"beacon/service/jobs"
	"beacon/store"
	"beacon/wire"
)

// Act shows one act with its requests.
func (a *Acts) Act(ctx context.Context, by access.Caller, id uint64) (v wire.Act, err error) {
	err = a.logbook.Look(ctx, func(tx *store.Tx) error {
		row, err := actOf(tx, by, id, access.See)
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
func (a *Acts) List(ctx context.Context, by access.Caller, subject string, before uint64, limit int) (list []wire.Act, err error) {
	err = a.logbook.Look(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		rows, err := tx.UsersActs(subject, before, limit)
		list = make([]wire.Act, len(rows))
		for i, r := range rows {
			list[i] = view(r)
		}
		return err
	})
	return list, err
}

// actOf returns an act that the caller may do something to; without an action that is what the act itself needs. What it asked for itself it may
// always see. One that it may not even see is as if it were not there.
func actOf(tx *store.Tx, by access.Caller, id uint64, action access.Action) (row store.Act, err error) {
	if row, err = tx.ActByID(id); err != nil {
		return row, err
	}
	domain, err := dnsname.Parse(row.Subject)
	if err != nil {
		domain = dnsname.Name{} // the installation
	}
	sees := access.May(by, access.See, access.Zone(domain)).Allowed || row.RequestedBy == by.Name
	switch {
	case !sees:
		return row, fmt.Errorf("act %d: %w", id, store.ErrNotFound)
	case action == access.See:
		return row, nil
	}
	needs := access.Delegate
	if row.Kind == wire.ActRetire {
		needs = access.Place
	}
	return row, wire.Permit(by, needs, access.Zone(domain))
}

// Cancel ends an act that has not ended. A request that is under way is not called back.
func (a *Acts) Cancel(ctx context.Context, by access.Caller, id uint64, reason string) (v wire.Act, err error) {
	err = a.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := actOf(tx, by, id, "")
		if err != nil {
			return err
		}
		if row.ParentID != nil || row.SyncID != nil {
			return wire.Problemf(wire.Invalid, "Act %d is a request and cannot be cancelled. Cancel what it is part of.", id)
		}
		if row.State.Ended() {
			return wire.Problemf(wire.Blocked, "Act %d has ended: %s. Nothing changed.", id, row.State)
		}
		if err := jobs.Cancel(tx, store.JobAct, id); err != nil {
			return err
		}
		run := &Run{Act: row}
		if run.Sent, err = tx.ActsOf(id); err != nil {
			return err
		}
		who := by.Name
		message := "Cancelled by " + who + "."
		if reason != "" {
			message = "Cancelled by " + who + ": " + reason
		}
		if len(run.Sent) > 0 {
			message += fmt.Sprintf(" %s sent before that; see beacon act show %d.", wording.Counted(len(run.Sent), "request"), id)
		}
		return a.record(tx, run, Outcome{State: store.ActCancelled, Message: message})
	})
	if err != nil {
		return v, err
	}
	return a.Act(ctx, by, id)
}

func view(a store.Act) wire.Act {
	v := wire.Act{ID: a.ID, Kind: a.Kind, Subject: a.Subject, State: wire.ActState(a.State), RequestedBy: a.RequestedBy, Reason: a.Reason, Message: a.Message, Problem: a.Problem,
		Findings: a.FindingList(), CreatedAt: a.CreatedAt, FinishedAt: a.FinishedAt, Requests: []wire.ActRequest{}}
	if a.State == store.ActRetrying && a.TroubleSince != nil && a.NextTryAt != nil {
		v.Retrying = &wire.Retrying{Problem: a.Problem, Since: *a.TroubleSince, NextTry: *a.NextTryAt}
	}
	if a.Result == "" || a.Result == "null" {
		return v
	}
	switch a.Kind { // what is kept was written by jsonOf
	case wire.ActDelegate:
		v.Delegated = &wire.Delegated{}
		_ = json.Unmarshal([]byte(a.Result), v.Delegated)
	case wire.ActDS:
		v.DS = &wire.DSChange{}
		_ = json.Unmarshal([]byte(a.Result), v.DS)
	case wire.ActLock:
		v.Lock = &wire.LockChange{}
		_ = json.Unmarshal([]byte(a.Result), v.Lock)
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

// ByID finds an act.
func ByID(tx *store.Tx, id uint64) (store.Act, error) { return tx.ActByID(id) }
