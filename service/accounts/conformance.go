package accounts

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"beacon/checklist"
	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/provider"
	"beacon/provider/conform"
	"beacon/registrar"
	registrarconform "beacon/registrar/conform"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// verifyTime bounds a conformance run, real time. A registrar may do each change later.
const verifyTime = 10 * time.Minute

// mostVerifications is how many runs of an account are shown.
const mostVerifications = 20

// Verify has a conformance run made in the background: with a provider account in a scratch zone, which must be nothing that is managed
// here; with a registrar account on a domain whose nameservers may be changed for a while.
func (s *Accounts) Verify(ctx context.Context, by access.Caller, name string, r wire.Verification) (out wire.VerificationRun, err error) {
	if err := wire.Permit(by, access.Connect, access.Everything); err != nil {
		return out, err
	}
	subject := r.Zone
	if r.Role == wire.RoleRegistrar {
		subject = r.Domain
	}
	if subject.IsZero() {
		return out, wire.Problemf(wire.Invalid, "Name what the run may change: a scratch zone at a provider, a domain at a registrar.")
	}
	servers, err := dnsname.ParseSet(r.Nameservers)
	if err != nil {
		return out, wire.Problemf(wire.Invalid, "%s.", err)
	}
	if r.Role == wire.RoleRegistrar && len(servers) < 2 {
		return out, wire.Problemf(wire.Invalid, "Name at least two nameservers to try with: --nameservers.")
	}
	text, err := json.Marshal(servers)
	if err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		a, err := tx.LockAccount(r.Role, name)
		if err != nil {
			return err
		}
		if err := s.mayVerify(tx, a, subject); err != nil {
			return err
		}
		v := store.Verification{AccountID: a.ID, Subject: subject.String(), Nameservers: string(text), RequestedBy: by.Name}
		if err := tx.AddVerification(&v); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "account.verify", name, "conformance run in "+subject.Unicode()); err != nil {
			return err
		}
		if out, err = viewVerification(name, v); err != nil {
			return err
		}
		return jobs.EnqueueIn(tx, store.JobVerify, v.ID, a.ID, s.store.Now())
	})
	return out, err
}

// mayVerify refuses a run that would change what is managed here, and a second one at the same time.
func (s *Accounts) mayVerify(tx *store.Tx, a store.Account, subject dnsname.Name) error {
	running, err := tx.UnfinishedVerification(a.ID)
	if err != nil {
		return err
	}
	if running.ID != 0 {
		return wire.Problemf(wire.Blocked, "A run of %s is under way, by %s. See it: beacon %s verify %s --last.", a.Name, running.RequestedBy, a.Role, a.Name)
	}
	managed, err := s.managed(tx, []dnsname.Name{subject})
	if err != nil || !managed[subject] {
		return err
	}
	if a.Role == wire.RoleRegistrar {
		return wire.Problemf(wire.Blocked, "Domain %s is managed here. The test changes nameservers. Name a domain without users instead. Nothing changed.", subject.Unicode())
	}
	return wire.Problemf(wire.Blocked, "Zone %s is managed here. The test writes and removes records. Name a scratch zone instead, such as scratch.%s. Nothing changed.", subject.Unicode(), subject.Unicode())
}

// Verification returns a conformance run as far as it got.
func (s *Accounts) Verification(ctx context.Context, by access.Caller, id uint64) (out wire.VerificationRun, err error) {
	if err := wire.Permit(by, access.See, access.Everything); err != nil {
		return out, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		v, err := tx.Verification(id)
		if err != nil {
			return err
		}
		a, err := tx.AccountByID(v.AccountID)
		if err != nil {
			return err
		}
		out, err = viewVerification(a.Name, v)
		return err
	})
	return out, err
}

// Verifications returns the newest conformance runs of an account, the newest first.
func (s *Accounts) Verifications(ctx context.Context, by access.Caller, role, name string) (list []wire.VerificationRun, err error) {
	if err := wire.Permit(by, access.See, access.Everything); err != nil {
		return nil, err
	}
	list = []wire.VerificationRun{}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		a, err := tx.Account(role, name)
		if err != nil {
			return err
		}
		rows, err := tx.VerificationsOf(a.ID, mostVerifications)
		if err != nil {
			return err
		}
		for _, v := range rows {
			view, err := viewVerification(name, v)
			if err != nil {
				return err
			}
			list = append(list, view)
		}
		return nil
	})
	return list, err
}

func viewVerification(account string, v store.Verification) (out wire.VerificationRun, err error) {
	out = wire.VerificationRun{ID: v.ID, Account: account, State: v.State, Of: v.Checks, Checks: []wire.Verified{}, Problem: v.Problem, CreatedAt: v.CreatedAt, FinishedAt: v.FinishedAt}
	if out.Subject, err = dnsname.Parse(v.Subject); err != nil {
		return out, err
	}
	var results []checklist.Result
	if err := json.Unmarshal([]byte(v.Results), &results); err != nil {
		return out, err
	}
	out.Failed = checklist.Failures(results)
	for _, r := range results {
		out.Checks = append(out.Checks, wire.Verified{Check: r.Check, Outcome: string(r.Outcome), Detail: r.Detail, Took: r.Took})
		if r.Cause {
			out.Cause = r.Check + ": " + r.Detail
		}
	}
	return out, nil
}

// RunVerify makes a conformance run. One that the service was stopped in is not made again: what it left is for a user to see.
func (s *Accounts) RunVerify(ctx context.Context, job store.Job) error {
	var v store.Verification
	var a store.Account
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if v, err = tx.Verification(job.Subject); err != nil {
			return err
		}
		if v.State == "running" {
			return tx.EndVerification(v.ID, "failed", "The service stopped during the run. "+v.Subject+" may still have what the run made. Remove it, then run again.")
		}
		if v.State != "pending" {
			return nil
		}
		if a, err = tx.AccountByID(v.AccountID); err != nil {
			return err
		}
		return tx.NoteVerified(v.ID, 0, []checklist.Result{})
	})
	if store.IsMissing(err) || err == nil && a.ID == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	running, cancel := context.WithTimeout(ctx, verifyTime)
	defer cancel()
	state, problem := "done", ""
	results, err := s.verify(running, a, v)
	if err != nil {
		state, problem = "failed", logbook.Explain(err).Error()
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.EndVerification(v.ID, state, problem); err != nil {
			return err
		}
		detail := fmt.Sprintf("%d checks, %d failed", len(results), checklist.Failures(results))
		if problem != "" {
			detail = problem
		}
		return logbook.Log(tx, v.RequestedBy, "account.verified", a.Name, detail)
	})
}

// verify makes the run, and keeps each result as it comes.
func (s *Accounts) verify(ctx context.Context, a store.Account, v store.Verification) (all []checklist.Result, err error) {
	subject, err := dnsname.Parse(v.Subject)
	if err != nil {
		return nil, err
	}
	secret, err := s.Secret(a)
	if err != nil {
		return nil, err
	}
	kind, err := s.kindOf(a)
	if err != nil {
		return nil, err
	}
	wrong := kind.wrong(secret)
	report := func(r checklist.Result, of int) {
		r.Detail = strings.ReplaceAll(r.Detail, secret, "…")
		all = append(all, r)
		if err := s.store.Tx(ctx, func(tx *store.Tx) error { return tx.NoteVerified(v.ID, of, all) }); err != nil {
			s.log.Error("a result of a conformance run could not be stored", "account", a.Name, "error", err)
		}
	}
	if a.Role == wire.RoleRegistrar {
		driver, other, err := s.registrars(a, secret, wrong)
		if err != nil {
			return nil, err
		}
		var servers []dnsname.Name
		if err := json.Unmarshal([]byte(v.Nameservers), &servers); err != nil {
			return nil, err
		}
		registrarconform.Run(ctx, registrarconform.Subject{Driver: driver, WrongKey: other, Secret: wrong, Domain: subject, Other: servers}, report)
		return all, nil
	}
	driver, err := s.Provider(a)
	if err != nil {
		return nil, err
	}
	var other provider.Driver
	if !kind.Inbound {
		if other, err = s.driverWith(a, wrong); err != nil {
			return nil, err
		}
	}
	conform.Run(ctx, conform.Subject{Driver: driver, WrongKey: other, Secret: wrong, Zone: subject}, report)
	return all, nil
}

// registrars returns the driver of a registrar account, and one with a wrong credential.
func (s *Accounts) registrars(a store.Account, secret, wrong string) (driver, other registrar.Driver, err error) {
	if driver, err = s.registrarWith(a, secret); err != nil {
		return nil, nil, err
	}
	other, err = s.registrarWith(a, wrong)
	return driver, other, err
}
