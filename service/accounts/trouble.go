package accounts

import (
	"context"
	"fmt"
	"time"

	"beacon/outcall"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// longWait is how long work waits at an account that is known not to be reached, real time: the probe that succeeds wakes it before.
const longWait = 10 * time.Minute

// WaitOut keeps that work at an account met trouble that passes, and returns until when it should wait. pause is its own, by how often it
// was tried. Where the account itself is in trouble, the work waits for the probe of it: one request for all.
func WaitOut(tx *store.Tx, a store.Account, problem error, pause time.Duration, now time.Time) (next time.Time, err error) {
	if !outcall.Passing(problem) {
		return now.Add(pause), nil
	}
	pause = max(pause, outcall.RetryAfterOf(problem))
	if err := tx.NoteTrouble(a.ID, problem.Error(), now.Add(jobs.Backoff(1))); err != nil {
		return next, err
	}
	if away, err := tx.TroubleOf(a.ID); err != nil {
		return next, err
	} else if away != nil && away.Probes > 0 {
		return now.Add(longWait), nil
	}
	return now.Add(pause), nil
}

// Away returns the trouble of an account that probes have confirmed, as an error that passes; nil where there is none.
func Away(tx *store.Tx, a store.Account) error {
	t, err := tx.TroubleOf(a.ID)
	if err != nil || t == nil || t.Probes == 0 {
		return err
	}
	return &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.NotSent, Account: a.Name,
		Asked: "since " + t.Since.Format(time.TimeOnly), Said: t.Problem + "; next try at " + t.NextTryAt.Format(time.TimeOnly)}
}

// RunProbe asks an account that was not reached for something small. The first success wakes all work that waits for it.
func (s *Accounts) RunProbe(ctx context.Context, job store.Job) error {
	var a store.Account
	var t *store.AccountTrouble
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if a, err = ByID(tx, job.Subject); err == nil {
			t, err = tx.TroubleOf(a.ID)
		}
		return err
	})
	if store.IsMissing(err) || err == nil && t == nil {
		return nil
	}
	if err != nil {
		return err
	}
	probeErr := s.probe(ctx, a)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	now := s.store.Now()
	next := now.Add(max(jobs.Backoff(t.Probes+2), outcall.RetryAfterOf(probeErr)))
	err = s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, job); err != nil {
			return err
		}
		if probeErr != nil && outcall.Passing(probeErr) {
			if t.Probes == 0 {
				if err := logbook.Log(tx, "service", "account.away", a.Name, "not reached since "+t.Since.Format(time.TimeOnly)+": "+probeErr.Error()); err != nil {
					return err
				}
			}
			return tx.ProbeFailed(a.ID, probeErr.Error(), next)
		}
		if err := tx.EndTrouble(a.ID); err != nil || t.Probes == 0 {
			return err
		}
		detail := fmt.Sprintf("reached again; away from %s to %s", t.Since.Format(time.TimeOnly), now.Format(time.TimeOnly))
		if err := logbook.Log(tx, "service", "account.back", a.Name, detail); err != nil {
			return err
		}
		return jobs.WakeLane(tx, a.ID)
	})
	if err != nil || probeErr == nil || !outcall.Passing(probeErr) {
		return err
	}
	return jobs.Later{At: next, Worked: true}
}

// probe makes one small request with the stored credential.
func (s *Accounts) probe(ctx context.Context, a store.Account) error {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	if a.Role != wire.RoleProvider {
		driver, err := s.Registrar(a)
		if err == nil {
			_, err = driver.Domains(ctx, "")
		}
		return err
	}
	driver, err := s.Provider(a)
	if err != nil {
		return err
	}
	if err := driver.Probe(ctx); err != nil {
		return err
	}
	if kind, _ := s.kinds.known(a.Kind); kind.Unlisted {
		return nil
	}
	_, err = driver.Zones(ctx, "")
	return err
}
