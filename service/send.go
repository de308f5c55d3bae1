package service

import (
	"context"
	"fmt"
	"time"

	"beacon/core/change"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/store"
)

// mostTries is how often one batch is sent that the provider certainly did not do.
const mostTries = 6

// sendAll sends batches in order. It returns early, without error and with false, where the live state has to be read
// anew before anything else is decided.
func (s *Service) sendAll(ctx context.Context, run *syncRun, batches []change.Batch, mark string) (all bool, err error) {
	for i, b := range batches {
		if i > 0 {
			if err := s.makeWay(ctx, run); err != nil {
				return false, err
			}
		}
		b.Mark = mark
		again, err := s.send(ctx, run, b)
		if err != nil || again {
			return false, err
		}
	}
	return true, nil
}

// send sends one batch: its intent is stored first, what became of it afterwards. again says that the live state must
// be read before going on.
func (s *Service) send(ctx context.Context, run *syncRun, b change.Batch) (again bool, err error) {
	for try := 1; ; try++ {
		if ctx.Err() != nil {
			return false, context.Cause(ctx)
		}
		intent, err := s.intend(ctx, run, b.Steps)
		if err != nil {
			return false, err
		}
		// Stopping the service does not break a request off: what became of it would be unclear.
		calling, cancel := context.WithDeadline(context.WithoutCancel(ctx), intent.Deadline)
		err = s.apply(calling, run, b)
		cancel()
		if err == nil {
			return false, s.confirm(ctx, run, intent, b.Steps)
		}
		if outcall.OutcomeOf(err) == outcall.Unclear {
			return true, s.settleIntent(ctx, run, intent)
		}
		if dbErr := s.store.Tx(ctx, func(tx *store.Tx) error { return tx.CloseIntent(intent.ID, store.IntentNotDone, err.Error()) }); dbErr != nil {
			return false, dbErr
		}
		switch kind := outcall.KindOf(err); {
		case kind == outcall.Conflict:
			return true, pause(ctx, backoff(1))
		case kind != outcall.Limited && kind != outcall.Unavailable || try == mostTries:
			return false, err
		}
		if err := pause(ctx, max(outcall.RetryAfterOf(err), backoff(try))); err != nil {
			return false, err
		}
	}
}

// apply makes the request, and asks for the outcome where the provider only accepts at first.
func (s *Service) apply(ctx context.Context, run *syncRun, b change.Batch) error {
	receipt, err := run.driver.Apply(ctx, run.ref(), b)
	for err == nil && !receipt.Done {
		if err = pause(ctx, 200*time.Millisecond); err == nil {
			receipt, err = run.driver.Poll(ctx, receipt)
		}
	}
	return err
}

// intend stores what is about to be sent, under the lease. The deadline lies before the lease could have run out.
func (s *Service) intend(ctx context.Context, run *syncRun, steps change.List) (intent store.Intent, err error) {
	err = s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.Hold(run.job); err != nil {
			return err
		}
		if err := tx.Extend(run.job, s.settings.Lease); err != nil {
			return err
		}
		intent, err = tx.AddIntent(run.sync.ID, steps, s.wall.Now().Add(s.settings.Request))
		return err
	})
	return intent, err
}

// confirm notes that an intent's steps were done.
func (s *Service) confirm(ctx context.Context, run *syncRun, intent store.Intent, steps change.List) error {
	return s.closeIntent(ctx, run, intent, steps, store.IntentDone, "")
}

// closeIntent notes which steps were done, what is placed by that, and how the sync stands.
func (s *Service) closeIntent(ctx context.Context, run *syncRun, intent store.Intent, done change.List, state store.IntentState, why string) error {
	run.applied = append(run.applied, done...)
	var puts []store.PlacedSet
	var gone []record.Key
	for _, step := range done {
		if step.After.IsZero() {
			gone = append(gone, step.Key())
		} else {
			puts = append(puts, store.PlacedSet{Sent: step.After}) // read back at the end of the sync
		}
	}
	added, changed, removed := done.Count()
	run.sync.Added, run.sync.Changed, run.sync.Removed = run.sync.Added+added, run.sync.Changed+changed, run.sync.Removed+removed
	run.sync.Requests++
	return s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := tx.Hold(run.job); err != nil {
			return err
		}
		if err := tx.CloseIntent(intent.ID, state, why); err != nil {
			return err
		}
		if err := tx.SetPlaced(run.placement.ID, puts); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(run.placement.ID, gone); err != nil {
			return err
		}
		if err := hostsWritten(tx, run, done); err != nil {
			return err
		}
		if err := tx.UpdateSync(run.sync.ID, map[string]any{"added": run.sync.Added, "changed": run.sync.Changed,
			"removed": run.sync.Removed, "requests": run.sync.Requests}); err != nil {
			return err
		}
		return tx.Log(run.sync.RequestedBy, "records.written", run.zone.Name().String(),
			fmt.Sprintf("sync %d, request %d at %s: %d added, %d changed, %d removed", run.sync.ID, intent.ID, run.account.Name, added, changed, removed))
	})
}

// recover finds out what became of requests that were on their way when the sync was broken off.
func (s *Service) recover(ctx context.Context, run *syncRun) error {
	var open []store.Intent
	if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { open, err = tx.OpenIntents(run.sync.ID); return err }); err != nil {
		return err
	}
	for _, intent := range open {
		if err := s.settleIntent(ctx, run, intent); err != nil {
			return err
		}
	}
	return nil
}

// settleIntent waits until the request cannot be on its way any more and its effect can be read, then looks at what
// the provider has. A set that is as the intent would leave it was written by it; so was one that has changed and holds
// the intent's data under another TTL, as some providers set it.
func (s *Service) settleIntent(ctx context.Context, run *syncRun, intent store.Intent) error {
	steps, err := intent.List()
	if err != nil {
		return err
	}
	if err := pause(ctx, intent.Deadline.Add(run.caps.ReadLag).Sub(s.wall.Now())); err != nil {
		return err
	}
	reading, cancel := context.WithTimeout(ctx, s.settings.Request*4)
	defer cancel()
	live, _, err := provider.ReadAll(reading, run.driver, run.ref())
	if err != nil {
		return err
	}
	var done change.List
	for _, step := range steps {
		now := live.Get(step.Key())
		if now.Equal(step.After) || !now.Equal(step.Before) && now.SameData(step.After) {
			done = append(done, step)
		}
	}
	state := store.IntentPartly
	switch len(done) {
	case 0:
		state = store.IntentNotDone
	case len(steps):
		state = store.IntentDone
	}
	return s.closeIntent(ctx, run, intent, done, state, fmt.Sprintf("broken off; read afterwards: %d of %d steps were done", len(done), len(steps)))
}
