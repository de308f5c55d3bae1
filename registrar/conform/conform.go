// Package conform holds the run that every driver of a registrar must pass, and every profile of one. It works on a domain that the
// account holds and whose nameservers may be changed, and leaves it as it was found. It is the same against a real registrar and in tests.
package conform

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"beacon/checklist"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/registrar"
)

// Subject is what the run is made on.
type Subject struct {
	Driver   registrar.Driver
	WrongKey registrar.Driver // the same interface with a credential that it does not know; nil to leave that out
	Secret   string           // the wrong credential, which must not show
	Domain   dnsname.Name     // registered with the account
	Other    []dnsname.Name   // a nameserver list that is not active, as long as the registrar allows
	Patience time.Duration    // how long to wait for operations that are done later, real time; 0 for two minutes
}

// Run makes every check and reports each as it is done, with how many there are.
func Run(ctx context.Context, s Subject, report func(checklist.Result, int)) []checklist.Result {
	if s.Patience == 0 {
		s.Patience = 2 * time.Minute
	}
	s.Other = dnsname.SortSet(s.Other)
	r := &run{ctx: ctx, Subject: s, caps: s.Driver.Caps()}
	return checklist.Run(r.checks(), report)
}

type run struct {
	ctx context.Context
	Subject
	caps   registrar.Caps
	before registrar.Registration
}

func (r *run) checks() []checklist.Check {
	return []checklist.Check{
		{Name: "a wrong credential fails as unauthorised, and nothing is done", Do: r.wrongKey},
		{Name: "an error keeps the credential to itself", Do: r.quiet},
		{Name: "a domain that is not there is not found", Do: r.missing},
		{Name: "the domain is looked at", Do: r.look, Needed: true},
		{Name: "it is in the list of domains, which ends", Do: r.listed},
		{Name: "a list is saved, and active only when it may be", Do: r.save, Needed: true},
		{Name: "a saved list is activated", Do: r.activate, Needed: true},
		{Name: "saving what is saved, and activating what is active, changes nothing", Do: r.again},
		{Name: "a list that cannot be is refused, and nothing of it is done", Do: r.refused},
		{Name: "a longer list than it takes is refused before anything is sent", Do: r.tooMany},
		{Name: "a host object comes, gets other addresses, and goes", Do: r.hosts},
		{Name: "a DS set comes, is replaced, and goes", Do: r.ds},
		{Name: "a lock is set and lifted", Do: r.locks},
		{Name: "a cancelled call returns immediately", Do: r.cancelled},
		{Name: "the domain is left as it was found", Do: r.restore, Last: true},
	}
}

func (r *run) wrongKey() error {
	if r.WrongKey == nil {
		return checklist.NotApplicable("no second credential was given")
	}
	_, err := r.WrongKey.Look(r.ctx, r.Domain)
	if err := checklist.WantKind(err, outcall.Unauthorised); err != nil {
		return err
	}
	return checklist.Want(outcall.OutcomeOf(err) != outcall.Unclear, "what became of it is %s", outcall.OutcomeOf(err))
}

func (r *run) quiet() error {
	if r.WrongKey == nil || r.Secret == "" {
		return checklist.NotApplicable("no second credential was given")
	}
	_, err := r.WrongKey.Look(r.ctx, r.Domain)
	return checklist.Want(err != nil && !strings.Contains(err.Error(), r.Secret), "the error repeats the credential")
}

func (r *run) missing() error {
	nobody, err := r.Domain.Parent().Child("nobody-has-this-name")
	if err != nil {
		return err
	}
	_, err = r.Driver.Look(r.ctx, nobody)
	return checklist.WantKind(err, outcall.NotFound)
}

func (r *run) look() (err error) {
	if r.before, err = r.Driver.Look(r.ctx, r.Domain); err != nil {
		return err
	}
	switch {
	case r.before.Name != r.Domain:
		return fmt.Errorf("it is called %s", r.before.Name)
	case len(r.before.Active) == 0:
		return errors.New("no active nameservers are read")
	case slices.Equal(r.before.Active, r.Other):
		return errors.New("the list to try with is active already; name another one")
	case !r.caps.Activation && !slices.Equal(r.before.Saved, r.before.Active):
		return fmt.Errorf("another list is saved (%v) than active (%v), and nothing is said to need activation", r.before.Saved, r.before.Active)
	case len(r.before.Pending) > 0:
		return fmt.Errorf("an operation is pending: %s", r.before.Pending[0].What)
	}
	for status := range r.before.Reasons {
		if !slices.Contains(r.before.Status, status) {
			return fmt.Errorf("a reason is given for %q, which is no status", status)
		}
	}
	return nil
}

func (r *run) listed() error {
	found := false
	err := outcall.Pages(r.ctx, func(ctx context.Context, cursor registrar.Cursor) (registrar.Cursor, error) {
		page, err := r.Driver.Domains(ctx, cursor)
		for _, one := range page.Registrations {
			found = found || one.Name == r.Domain
		}
		return page.Next, err
	})
	if err != nil {
		return err
	}
	return checklist.Want(found, "it is not in the list")
}

// make makes a change, waits for it where it is done later, and returns what the registration is then.
func (r *run) make(c registrar.Change) (registrar.Registration, error) {
	receipt, err := r.Driver.Apply(r.ctx, r.Domain, c)
	for until := time.Now().Add(r.Patience); err == nil && !receipt.Done; {
		if !r.caps.Delayed {
			return registrar.Registration{}, errors.New("it is not done yet, and operations are not said to be delayed")
		}
		if time.Now().After(until) {
			return registrar.Registration{}, fmt.Errorf("operation %s is not done after %s", receipt.ID, r.Patience)
		}
		select {
		case <-r.ctx.Done():
			return registrar.Registration{}, r.ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		receipt, err = r.Driver.Poll(r.ctx, r.Domain, receipt)
	}
	if err != nil {
		return registrar.Registration{}, err
	}
	return r.Driver.Look(r.ctx, r.Domain)
}

func (r *run) has(c registrar.Change) error {
	now, err := r.make(c)
	if err != nil {
		return err
	}
	return checklist.Want(now.Has(c, r.caps), "after %s it is not there: %+v", c.Do, now)
}

func (r *run) save() error {
	save := registrar.Change{Do: registrar.Save, Nameservers: r.Other}
	now, err := r.make(save)
	if err != nil {
		return err
	}
	if !now.Has(save, r.caps) {
		return fmt.Errorf("saved is %v, not %v", now.Saved, r.Other)
	}
	active := r.Other
	if r.caps.Activation {
		active = r.before.Active
	}
	return checklist.Want(slices.Equal(now.Active, active), "active is %v, not %v", now.Active, active)
}

func (r *run) activate() error {
	if !r.caps.Activation {
		return checklist.NotApplicable("a saved list is active immediately")
	}
	return r.has(registrar.Change{Do: registrar.Activate, Nameservers: r.Other})
}

func (r *run) again() error {
	if err := r.has(registrar.Change{Do: registrar.Save, Nameservers: r.Other}); err != nil {
		return err
	}
	if !r.caps.Activation {
		return nil
	}
	return r.has(registrar.Change{Do: registrar.Activate, Nameservers: r.Other})
}

// refused sends the same name twice, which no list may have.
func (r *run) refused() error {
	_, err := r.make(registrar.Change{Do: registrar.Save, Nameservers: []dnsname.Name{r.Other[0], r.Other[0]}})
	if err := checklist.WantKind(err, outcall.Refused); err != nil {
		return err
	}
	now, err := r.Driver.Look(r.ctx, r.Domain)
	if err != nil {
		return err
	}
	return checklist.Want(slices.Equal(now.Saved, r.Other), "saved is %v now", now.Saved)
}

// unhurried is a pace that lets everything through.
type unhurried struct{}

func (unhurried) Wait(context.Context) error { return nil }
func (unhurried) Slow(time.Duration)         {}

func (r *run) tooMany() error {
	if r.caps.Most == 0 {
		return checklist.NotApplicable("it is not known how many nameservers a list may have")
	}
	var long []dnsname.Name
	for i := range r.caps.Most + 1 {
		n, err := r.Domain.Child(fmt.Sprintf("ns%d", i))
		if err != nil {
			return err
		}
		long = append(long, n)
	}
	_, err := registrar.Paced(r.Driver, unhurried{}).Apply(r.ctx, r.Domain, registrar.Change{Do: registrar.Save, Nameservers: long})
	if err := checklist.WantKind(err, outcall.Refused); err != nil {
		return err
	}
	return checklist.Want(outcall.OutcomeOf(err) == outcall.NotSent, "it was sent")
}

func (r *run) hosts() error {
	if !r.caps.Hosts {
		return checklist.NotApplicable("it takes no host objects")
	}
	name, err := r.Domain.Child("beacon-conformance")
	if err != nil {
		return err
	}
	v4, v6 := netip.MustParseAddr("192.0.2.53"), netip.MustParseAddr("2001:db8::53")
	for _, addresses := range [][]netip.Addr{{v4}, {v4, v6}} {
		if err := r.has(registrar.Change{Do: registrar.PutHost, Host: registrar.Host{Name: name, Addresses: addresses}}); err != nil {
			return err
		}
	}
	return r.has(registrar.Change{Do: registrar.RemoveHost, Host: registrar.Host{Name: name}})
}

// tryKeys are the keys that RFC 6605 section 6.1 and RFC 8080 section 6.1 print, with their digests (SHA-256). They sign nothing here.
var tryKeys = []struct{ key, ds record.Data }{
	{"257 3 13 mdsswUyr3DPW132mOi8V9xESWE8jTo0dxCjjnopKl+GqJxpVXckHAeF+KkxLbxILfDLUT0rAK9iUzy1L53eKGQ==", "55648 13 2 B4C8C1FE2E7477127B27115656AD6256F424625BF5C1E2770CE6D6E37DF61D17"},
	{"257 3 15 l02Woi0iS8Aa25FQkUd9RMzZHJpBoRQwAQEX1SxZJA4=", "3613 15 2 3AA5AB37EFCE57F737FC1627013FEE07BDF241BD10F3B1964AB55C78E79A304B"},
}

func (r *run) ds() error {
	if r.caps.DS == registrar.NoDS {
		return checklist.NotApplicable("it takes no DS records")
	}
	set := func(indexes ...int) registrar.Change {
		c := registrar.Change{Do: registrar.SetDS}
		for _, i := range indexes {
			if r.caps.DS == registrar.Keys {
				c.Keys = append(c.Keys, tryKeys[i].key)
			} else {
				c.DS = append(c.DS, tryKeys[i].ds)
			}
		}
		return c
	}
	back := registrar.Change{Do: registrar.SetDS, DS: r.before.DS, Keys: r.before.Keys}
	for _, c := range []registrar.Change{set(0), set(0, 1), set(1), back} {
		if err := r.has(c); err != nil {
			return err
		}
	}
	return nil
}

// locks uses a status that a registrar sets by itself (RFC 5731 section 2.3), and that keeps no nameservers from being changed.
func (r *run) locks() error {
	if !r.caps.Locks {
		return checklist.NotApplicable("its locks cannot be changed through the interface")
	}
	const status = "client transfer prohibited"
	change := registrar.Change{Do: registrar.Lock, Status: status}
	if slices.Contains(r.before.Status, status) {
		change.Do = registrar.Unlock
	}
	if err := r.has(change); err != nil {
		return err
	}
	if change.Do == registrar.Lock {
		change.Do = registrar.Unlock
	} else {
		change.Do = registrar.Lock
	}
	return r.has(change)
}

func (r *run) cancelled() error {
	ctx, cancel := context.WithCancel(r.ctx)
	cancel()
	start := time.Now()
	_, err := r.Driver.Look(ctx, r.Domain)
	if err == nil {
		return errors.New("it went on")
	}
	return checklist.Want(time.Since(start) < time.Second, "it took %s", time.Since(start))
}

func (r *run) restore() error {
	if r.before.Name.IsZero() {
		return checklist.NotApplicable("nothing was changed")
	}
	if err := r.has(registrar.Change{Do: registrar.Save, Nameservers: r.before.Active}); err != nil {
		return err
	}
	if !r.caps.Activation {
		return nil
	}
	return r.has(registrar.Change{Do: registrar.Activate, Nameservers: r.before.Active})
}
