package sync

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/service/acts"
	"beacon/service/logbook"
	"beacon/store"
)

// mostTries is how often one batch is sent that the provider certainly did not do.
const mostTries = 6

// pack divides what is to be done into requests. Names that a broken-off request may have left without an answer come
// first.
func (r *syncRun) pack(c comparison) []change.Batch {
	steps := c.result.Steps
	if len(r.broken) > 0 {
		steps = slices.Clone(steps)
		slices.SortStableFunc(steps, func(a, b change.Step) int {
			return cmp.Compare(rank(r.broken[b.Key().Name]), rank(r.broken[a.Key().Name]))
		})
	}
	return r.Caps.Pack(steps, c.live)
}

func rank(first bool) int {
	if first {
		return 1
	}
	return 0
}

// mostRefusals is how often in a run a request may break off with nothing done, or be refused after it was accepted.
const mostRefusals = 3

// sendAll sends batches in order. It returns early, without error and with false, where the live state has to be read
// again before anything else is decided. That a batch is done is recorded while the next one is on its way.
func (s *Syncs) sendAll(ctx context.Context, run *syncRun, batches []change.Batch, c comparison) (all bool, err error) {
	run.closing = func() error { return nil }
	defer func() { err = errors.Join(err, run.closing()) }()
	for i, b := range batches {
		if i > 0 {
			if err := s.makeWay(ctx, run); err != nil {
				return false, err
			}
			if run.Caps.Guarded { // what was read is not what is there any more
				return false, nil
			}
		}
		b.Mark, b.Details = c.state.Mark, c.details
		again, err := s.send(ctx, run, b)
		if err != nil || again {
			return false, err
		}
	}
	return true, nil
}

// send sends one batch: it is stored first, what became of it afterwards. again says that the live state must
// be read before going on.
func (s *Syncs) send(ctx context.Context, run *syncRun, b change.Batch) (again bool, err error) {
	for try := 1; ; try++ {
		if ctx.Err() != nil {
			return false, context.Cause(ctx)
		}
		act, err := s.intend(ctx, run, acts.Records, b.Steps)
		if err != nil {
			return false, err
		}
		// Stopping the service does not break a request off: what became of it would be unclear.
		calling, cancel := outcall.Sending(ctx, act.Deadline.Sub(s.store.Now()), fmt.Sprintf("sync %d", run.sync.ID))
		closed := make(chan error, 1)
		go func(before func() error) { closed <- before() }(run.closing)
		run.closing = func() error { return nil }
		err = s.apply(calling, run, &act, b)
		cancel()
		if closeErr := <-closed; closeErr != nil { // this act stays open, and is looked for
			return false, closeErr
		}
		if err == nil {
			run.wrote(s.store.Now())
			run.refusals, run.closing = 0, sync.OnceValue(func() error { return s.closeAct(ctx, run, act, b.Steps, store.ActDone, "") })
			return false, nil
		}
		if outcall.OutcomeOf(err) == outcall.Unclear {
			run.wrote(s.store.Now())
			if some, settleErr := s.settle(ctx, run, act); settleErr != nil || some && outcall.KindOf(err) != outcall.Refused {
				return true, settleErr
			}
			// Nothing was done, or it was accepted first and refused later: what was read may have been old, so it is read and decided again, a few times.
			if run.refusals++; run.refusals < mostRefusals {
				return true, nil
			}
			return false, err
		}
		if dbErr := s.store.Tx(ctx, func(tx *store.Tx) error { return acts.Close(tx, act.ID, store.ActNotApplied, err.Error()) }); dbErr != nil {
			return false, dbErr
		}
		switch kind := outcall.KindOf(err); {
		case kind == outcall.Conflict:
			return true, clock.Pause(ctx, max(outcall.Backoff(1), run.Caps.ReadLag))
		case kind != outcall.Limited && kind != outcall.Unavailable || try == mostTries:
			return false, err
		}
		if err := clock.Pause(ctx, max(outcall.RetryAfterOf(err), outcall.Backoff(try))); err != nil {
			return false, err
		}
	}
}

// apply makes the request, and asks for the outcome where the provider only accepts at first. Once it has accepted,
// nothing that goes wrong means that it was not done.
func (s *Syncs) apply(ctx context.Context, run *syncRun, act *store.Act, b change.Batch) error {
	receipt, err := run.Driver.Apply(ctx, run.Ref(), b)
	if err != nil || receipt.Done {
		return err
	}
	act.Receipt = receipt.ID
	if err := s.store.Tx(ctx, func(tx *store.Tx) error { return acts.Accepted(tx, act.ID, receipt.ID) }); err != nil {
		return &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.Unclear, Account: run.Account.Name, Asked: "keeping the receipt", Said: err.Error()}
	}
	return s.awaitReceipt(ctx, run, receipt)
}

// Polling begins soon, since most changes are quick, and becomes rarer.
const (
	firstPoll = 15 * time.Millisecond
	lastPoll  = 2 * time.Second
)

// awaitReceipt asks until an accepted batch is done.
func (s *Syncs) awaitReceipt(ctx context.Context, run *syncRun, receipt provider.Receipt) error {
	for wait := firstPoll; ; wait = min(wait*3/2, lastPoll) {
		err := clock.Pause(ctx, wait)
		if err == nil {
			receipt, err = run.Driver.Poll(ctx, receipt)
		}
		var told *outcall.Error
		switch {
		case err == nil && receipt.Done:
			return nil
		case err == nil:
		case errors.As(err, &told):
			told.Outcome = outcall.Unclear
			return told
		default:
			return &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.Unclear, Account: run.Account.Name, Asked: "receipt " + receipt.ID, Said: "not done in time"}
		}
	}
}

// intend stores a request that is about to be sent.
func (s *Syncs) intend(ctx context.Context, run *syncRun, kind string, what any) (act store.Act, err error) {
	text, err := json.Marshal(what)
	if err != nil {
		return act, err
	}
	err = s.store.Tx(ctx, func(tx *store.Tx) error {
		act, err = s.acts.Intend(tx, run.job, run.locks(), store.Act{Kind: kind, Subject: run.Zone.Name().String(), SyncID: &run.sync.ID, AccountID: run.Account.ID,
			RequestedBy: run.sync.RequestedBy, Intended: string(text)})
		return err
	})
	return act, err
}

// closeAct records which steps were done, what is placed by that, and how the sync stands.
func (s *Syncs) closeAct(ctx context.Context, run *syncRun, act store.Act, done change.List, state store.ActState, why string) error {
	run.applied = append(run.applied, done...)
	var puts []store.PlacedSet
	var gone []record.Key
	for _, step := range done {
		if step.After.IsZero() {
			gone = append(gone, step.Key())
		} else if step.Key() != run.soaKey() { // of which nothing is kept: desired fields replace those that were changed elsewhere
			puts = append(puts, store.PlacedSet{Sent: step.After}) // read back at the end of the sync
		}
	}
	added, changed, removed := done.Count()
	run.sync.Added, run.sync.Changed, run.sync.Removed = run.sync.Added+added, run.sync.Changed+changed, run.sync.Removed+removed
	run.sync.Requests++
	return s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := run.hold(tx); err != nil {
			return err
		}
		if err := acts.Close(tx, act.ID, state, why); err != nil {
			return err
		}
		if err := tx.Written(run.Placement.ID); err != nil {
			return err
		}
		if err := tx.SetPlaced(run.Placement.ID, puts); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(run.Placement.ID, gone); err != nil {
			return err
		}
		if err := s.observer.Written(tx, run.Placement.ID, run.hosts, done); err != nil {
			return err
		}
		if state == store.ActNotApplied { // the trouble goes on, and what failed has a line in the logbook
			return tx.UpdateSync(run.sync.ID, map[string]any{"total": run.sync.Total, "requests": run.sync.Requests})
		}
		columns := map[string]any{"added": run.sync.Added, "changed": run.sync.Changed, "removed": run.sync.Removed, "requests": run.sync.Requests, "trouble": "", "trouble_since": nil}
		if run.sync.Scope == store.ScopeHosts {
			columns["total"] = run.sync.Total
		}
		if err := tx.UpdateSync(run.sync.ID, columns); err != nil {
			return err
		}
		return logbook.Log(tx, run.sync.RequestedBy, "records.written", run.Zone.Name().String(),
			fmt.Sprintf("sync %d, request %d at %s: %d added, %d changed, %d removed", run.sync.ID, act.ID, run.Account.Name, added, changed, removed))
	})
}

// recover finds out what became of requests that were on their way when the sync was broken off.
func (s *Syncs) recover(ctx context.Context, run *syncRun) error {
	var open []store.Act
	if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { open, err = acts.OpenOfPlacement(tx, run.Placement.ID); return err }); err != nil {
		return err
	}
	open = slices.DeleteFunc(open, func(act store.Act) bool { return act.Kind != acts.Records })
	for i, act := range open {
		if i == len(open)-1 {
			_, err := s.settle(ctx, run, act)
			return err
		}
		// The next one was sent only because this one was confirmed.
		steps, err := act.Steps()
		if err == nil {
			err = s.closeAct(ctx, run, act, steps, store.ActDone, "confirmed; recorded after the sync was broken off")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// settle waits until the request cannot be on its way any more and its effect can be read, then looks at what
// the provider has, and reports whether some of it was done. A set that has been left half way is ours, too.
func (s *Syncs) settle(ctx context.Context, run *syncRun, act store.Act) (some bool, err error) {
	steps, err := act.Steps()
	if err != nil {
		return false, err
	}
	if err := s.outlast(ctx, run, act); err != nil {
		return false, err
	}
	live, err := s.readSurely(ctx, run)
	if err != nil {
		return false, err
	}
	done, halves, broken := diff.Found(steps, live)
	for _, name := range broken {
		run.broken[name] = true
	}
	outcome := store.ActPartial
	switch {
	case len(done)+len(halves) == 0:
		outcome = store.ActNotApplied
	case len(done) == len(steps):
		outcome = store.ActDone
	}
	if len(halves) > 0 {
		if err := s.store.Tx(ctx, func(tx *store.Tx) error { return tx.SetPlaced(run.Placement.ID, halves) }); err != nil {
			return false, err
		}
	}
	return outcome != store.ActNotApplied, s.closeAct(ctx, run, act, done, outcome, fmt.Sprintf("broken off; read afterwards: %d of %d steps were done", len(done), len(steps)))
}

// mostAgreed is how many reads one after the other have to agree before they are believed about a request that broke off.
const mostAgreed = 3

// readSurely reads the live state until several reads agree: one alone may come from a copy of the provider's that is
// behind, and what is concluded here is not looked at again.
func (s *Syncs) readSurely(ctx context.Context, run *syncRun) (live record.Contents, err error) {
	for agreed := 0; agreed < mostAgreed; {
		reading, cancel := context.WithTimeout(ctx, s.timeout*4)
		state, err := provider.ReadAll(reading, run.Driver, run.Ref(), provider.State{})
		if err == nil {
			state, err = run.readSOA(reading, state)
		}
		cancel()
		if err != nil {
			return live, err
		}
		if agreed > 0 && !state.Contents.Equal(live) {
			agreed = 0
		}
		live, agreed = state.Contents, agreed+1
		if agreed < mostAgreed {
			if err := clock.Pause(ctx, max(20*time.Millisecond, run.Caps.ReadLag/(mostAgreed-1))); err != nil {
				return live, err
			}
		}
	}
	return live, nil
}

// delayedGrace is how long a provider that does things later may take with a batch of which no receipt was kept, beyond
// the request's own time.
const delayedGrace = 2 * time.Second

// outlast returns when a request has had its effect or never will.
func (s *Syncs) outlast(ctx context.Context, run *syncRun, act store.Act) error {
	if act.Receipt != "" {
		asking, cancel := context.WithTimeout(ctx, s.timeout*4)
		defer cancel()
		err := s.awaitReceipt(asking, run, provider.Receipt{ID: act.Receipt, Zone: run.Ref()})
		if kind := outcall.KindOf(err); err == nil || kind == outcall.Refused || kind == outcall.NotFound {
			return clock.Pause(ctx, run.Caps.ReadLag)
		}
		return err
	}
	until := act.Deadline.Add(run.Caps.ReadLag)
	if run.Caps.Delayed {
		until = until.Add(delayedGrace)
	}
	return clock.Pause(ctx, until.Sub(s.store.Now()))
}
