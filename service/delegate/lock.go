package delegate

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/registrar"
	"beacon/service/acts"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// PreviewLock returns what setting or lifting a status would do. It changes nothing.
func (s *Delegations) PreviewLock(ctx context.Context, by access.Caller, r wire.LockRequest) (out wire.LockChange, err error) {
	if err := wire.Permit(by, access.See, access.Zone(r.Domain)); err != nil {
		return out, err
	}
	m, err := s.lockable(ctx, &r)
	if err != nil {
		return out, err
	}
	out, _, err = s.lookLock(ctx, m, r)
	return out, logbook.Explain(err)
}

// ChangeLock stores that a status is to be set or lifted, and has it done in the background.
func (s *Delegations) ChangeLock(ctx context.Context, by access.Caller, r wire.LockRequest) (wire.Act, error) {
	if err := wire.Permit(by, access.Delegate, access.Zone(r.Domain)); err != nil {
		return wire.Act{}, err
	}
	m, err := s.lockable(ctx, &r)
	if err != nil {
		return wire.Act{}, err
	}
	if err := m.driver.Caps().Unfit(lockChange(r)); err != nil {
		return wire.Act{}, wire.Problemf(wire.Blocked, "%s: %s. Nothing was changed. Set or lift the status at the registrar's site.", m.place, err)
	}
	return s.startAtRegistrar(ctx, by, wire.ActLock, r.Domain, m.account.ID, r.Reason, r, nil)
}

// lockable finds a domain whose registration is at an account, and completes the request.
func (s *Delegations) lockable(ctx context.Context, r *wire.LockRequest) (move, error) {
	r.Status = cmp.Or(strings.ToLower(strings.TrimSpace(r.Status)), wire.UpdateLock)
	m, err := s.registered(ctx, r.Domain)
	switch {
	case err != nil:
		return m, err
	case m.account.ID == 0:
		return m, wire.Problemf(wire.Blocked, "%s has no registrar account here: set and lift its statuses at the registrar's site. Nothing was changed.", r.Domain.Unicode())
	case !strings.HasPrefix(r.Status, "client "):
		return m, wire.Problemf(wire.Invalid, "%q is no status that a registrar sets: they begin with \"client\", such as %s. Others are the registry's. Nothing was changed.", r.Status, wire.UpdateLock)
	}
	return m, nil
}

func lockChange(r wire.LockRequest) registrar.Change {
	if r.Lift {
		return registrar.Change{Do: registrar.Unlock, Status: r.Status}
	}
	return registrar.Change{Do: registrar.Lock, Status: r.Status}
}

// lookLock asks the registrar which statuses are set, and returns the change that is needed.
func (s *Delegations) lookLock(ctx context.Context, m move, r wire.LockRequest) (out wire.LockChange, c registrar.Change, err error) {
	calling, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	has, err := m.driver.Look(calling, r.Domain)
	if err != nil {
		return out, c, err
	}
	c = lockChange(r)
	out = wire.LockChange{Domain: r.Domain, Registrar: m.place, Status: r.Status, Lift: r.Lift, Before: append([]string{}, has.Status...), Reasons: has.Reasons,
		Locks: m.driver.Caps().Locks, Pending: !has.Has(c, m.driver.Caps())}
	server := slices.ContainsFunc(has.Status, func(s string) bool { return strings.HasPrefix(s, "server ") })
	switch {
	case !out.Locks:
		out.Next = "The registrar's interface sets and lifts no statuses. Do it at the registrar's site."
	case !out.Pending && r.Lift:
		out.Next = "Nothing to do: this status is not set."
	case !out.Pending:
		out.Next = "Nothing to do: this status is set."
	default:
		out.Next = "This is a preview. Nothing was changed."
	}
	if r.Lift && server {
		out.Next += " A status that begins with \"server\" is the registry's: ask the registrar to have it lifted."
	}
	return out, c, nil
}

// locking does acts of the kind lock.
type locking struct{ s *Delegations }

// Locks returns the lock on all that the registrar has of the domain.
func (l locking) Locks(tx *store.Tx, act store.Act) ([]string, error) {
	return delegating(l).Locks(tx, act)
}

func (l locking) asked(ctx context.Context, run *acts.Run) (m move, r wire.LockRequest, err error) {
	if err := run.Asked(&r); err != nil {
		return m, r, err
	}
	if r.Domain, err = dnsname.Parse(run.Act.Subject); err != nil {
		return m, r, err
	}
	m, err = l.s.registered(ctx, r.Domain)
	return m, r, err
}

// Next asks which statuses are set, sends the change, and sees that the registrar has it.
func (l locking) Next(ctx context.Context, run *acts.Run) (next acts.Decision, err error) {
	m, r, err := l.asked(ctx, run)
	if err != nil {
		return next, err
	}
	if err := l.s.operations(ctx, run, m); err != nil {
		return next, err
	}
	out, c, err := l.s.lookLock(ctx, m, r)
	if err != nil {
		return next, err
	}
	what := fmt.Sprintf("%q", r.Status)
	if !out.Pending {
		out.Next = ""
		is := " is set."
		if r.Lift {
			is = " is not set."
		}
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Message: "The status " + what + is}
		return next, nil
	}
	verb := "set "
	if r.Lift {
		verb = "lift "
	}
	next.Request = &acts.Request{Kind: acts.LockWritten, AccountID: m.account.ID, Seen: delegation.Registration{Account: out.Registrar, Status: out.Before}, Intended: c, Log: "at " + m.place + ": " + verb + what,
		Send: func(ctx context.Context) (string, error) {
			receipt, err := m.driver.Apply(ctx, r.Domain, c)
			return receipt.ID, err
		}}
	return next, nil
}

// Became looks whether the registrar did what a request that broke off was about.
func (l locking) Became(ctx context.Context, run *acts.Run, request store.Act) (store.ActState, error) {
	m, r, err := l.asked(ctx, run)
	if err != nil {
		return "", err
	}
	return l.s.becameAt(ctx, m, r.Domain, request)
}

// Ended has the domain checked.
func (l locking) Ended(tx *store.Tx, run *acts.Run, _ acts.Outcome) error {
	return l.s.checkSoon(tx, run.Act.Subject)
}
