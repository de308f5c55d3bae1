// Package conform holds the run that every driver of a DNS provider must pass, and every profile. It works on a scratch
// zone, which it makes and removes where the interface can do that, and else empties at the end. It is the same against a
// real provider and in the tests.
package conform

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"beacon/checklist"
	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

// Subject is what the run is made on.
type Subject struct {
	Driver   provider.Driver
	WrongKey provider.Driver // the same interface with a credential that it does not know; nil to leave that out
	Secret   string          // the wrong credential, which must not show
	Zone     dnsname.Name    // the scratch zone: must not exist, or, where zones are made elsewhere, must be empty
}

// Run makes every check and reports each as it is done, with how many there are.
func Run(ctx context.Context, s Subject, report func(checklist.Result, int)) []checklist.Result {
	return checklist.Run((&run{ctx: ctx, Subject: s}).checks(), report)
}

type run struct {
	ctx context.Context
	Subject
	zone provider.Zone
	caps change.Caps
	made bool
}

func (r *run) checks() []checklist.Check {
	return append(append(r.first(), r.contents()...), r.end()...)
}

func (r *run) first() []checklist.Check {
	return []checklist.Check{
		{Name: "a wrong credential fails as unauthorised, and nothing is done", Do: r.wrongKey},
		{Name: "an error keeps the credential to itself", Do: r.quiet},
		{Name: "what the interface can do makes sense", Do: r.describe, Needed: true},
		{Name: "a zone that is not there is not found", Do: r.missing},
		{Name: "reading a zone that is not there says so", Do: r.readMissing},
		{Name: "the scratch zone is made", Do: r.create, Needed: true},
		{Name: "it has at least two nameservers, each once", Do: r.nameservers},
		{Name: "it is found again by its name, as it was given", Do: r.found},
		{Name: "it is in the list of zones, which ends", Do: r.listed},
		{Name: "a zone cannot be made twice", Do: r.createTwice},
		{Name: "a zone is made again beside it, with nameservers of its own, and removed", Do: r.another},
		{Name: "it holds nothing but what is the provider's own", Do: r.empty, Needed: true},
	}
}

func (r *run) end() []checklist.Check {
	return []checklist.Check{
		{Name: "a cancelled call returns immediately", Do: r.cancelled},
		{Name: "the scratch zone is removed, or left as it was found", Do: r.remove, Last: true},
		{Name: "removing it again says that it is not there", Do: r.removeAgain},
	}
}

func (r *run) wrongKey() error {
	if r.WrongKey == nil {
		return checklist.NotApplicable("no second credential was given")
	}
	_, _, err := provider.FindZone(r.ctx, r.WrongKey, r.Zone)
	if err := checklist.WantKind(err, outcall.Unauthorised); err != nil {
		return err
	}
	return checklist.Want(outcall.OutcomeOf(err) == outcall.NotDone, "what became of it is %s, not %s", outcall.OutcomeOf(err), outcall.NotDone)
}

func (r *run) quiet() error {
	if r.WrongKey == nil || r.Secret == "" {
		return checklist.NotApplicable("no second credential was given")
	}
	_, _, err := provider.FindZone(r.ctx, r.WrongKey, r.Zone)
	return checklist.Want(err != nil && !contains(err.Error(), r.Secret), "the error repeats the credential")
}

func (r *run) describe() (err error) {
	if r.caps, err = r.Driver.Describe(r.ctx, provider.ZoneRef{Name: r.Zone}); err != nil {
		return err
	}
	c := r.caps
	switch {
	case c.Granularity == change.ByZone && !c.Guarded && !c.Overwrites:
		return errors.New("a whole zone is replaced without a condition: a change of another client in between would be lost")
	case c.Granularity == change.ByZone && c.BatchSize > 0:
		return errors.New("a whole zone has no batch size")
	case c.Atomic && c.BatchSize == 1 && c.Granularity == change.BySet:
		return errors.New("the profile declares a batch of one set as atomic, and no two sets can change together")
	}
	for i, step := range c.TTLSteps {
		if i > 0 && step <= c.TTLSteps[i-1] {
			return errors.New("the TTLs that it knows are not in rising order")
		}
	}
	return nil
}

func (r *run) missing() error {
	if r.caps.FixedZones {
		return checklist.NotApplicable("zones are made elsewhere")
	}
	_, found, err := provider.FindZone(r.ctx, r.Driver, r.Zone)
	if err != nil {
		return err
	}
	return checklist.Want(!found, "%s is there already; name a zone that is not", r.Zone)
}

func (r *run) readMissing() error {
	nowhere, err := r.Zone.Child("nowhere")
	if err != nil {
		return err
	}
	_, err = r.Driver.Read(r.ctx, provider.ZoneRef{ID: nowhere.String(), Name: nowhere}, provider.ReadFrom{})
	return checklist.WantKind(err, outcall.NotFound)
}

func (r *run) create() (err error) {
	if r.caps.FixedZones {
		var there bool
		r.zone, there, err = provider.FindZone(r.ctx, r.Driver, r.Zone)
		if err != nil {
			return err
		}
		return checklist.Want(there, "%s is not there; make it at the server first", r.Zone)
	}
	if r.zone, err = r.Driver.Create(r.ctx, r.Zone, provider.ZoneOptions{}); err != nil {
		return err
	}
	r.made = true
	provider.AwaitZone(r.ctx, r.Driver, r.zone.Ref)
	if r.zone.Ref.Name != r.Zone {
		return fmt.Errorf("the new zone is called %s", r.zone.Ref.Name)
	}
	return checklist.Want(r.zone.Ref.ID != "", "the new zone has no identifier")
}

func (r *run) nameservers() error {
	ns := r.zone.Nameservers
	if len(ns) < 2 {
		return fmt.Errorf("nameservers of the new zone: %v", ns)
	}
	return checklist.Want(len(dnsname.SortSet(ns)) == len(ns), "a nameserver is listed twice: %v", ns)
}

func (r *run) found() error {
	found, there, err := provider.FindZone(r.ctx, r.Driver, r.Zone)
	if err != nil {
		return err
	}
	if !there {
		return errors.New("it is not found")
	}
	return checklist.Want(fmt.Sprint(found) == fmt.Sprint(r.zone), "it is %v, and was given as %v", found, r.zone)
}

func (r *run) listed() error {
	if r.caps.FixedZones {
		return checklist.NotApplicable("zones are made elsewhere")
	}
	seen := map[provider.Cursor]bool{}
	for cursor := provider.Cursor(""); ; {
		page, err := r.Driver.Zones(r.ctx, cursor)
		if err != nil {
			return err
		}
		for _, z := range page.Zones {
			if z.Ref == r.zone.Ref {
				return nil
			}
		}
		seen[cursor] = true
		if cursor = page.Next; cursor == "" {
			return errors.New("it is not in the list")
		}
		if seen[cursor] {
			return fmt.Errorf("the list goes in a circle: %q comes again", cursor)
		}
	}
}

func (r *run) createTwice() error {
	if r.caps.FixedZones {
		return checklist.NotApplicable("zones are made elsewhere")
	}
	_, err := r.Driver.Create(r.ctx, r.Zone, provider.ZoneOptions{})
	return checklist.WantKind(err, outcall.Conflict)
}

// empty notes what a new zone holds, and clears it where that is the provider's habit.
func (r *run) empty() error {
	s, err := r.read()
	if err != nil {
		return err
	}
	if s.Contents.Len() == 0 {
		return nil
	}
	if !r.caps.Prefills {
		return fmt.Errorf("there is %s, and new zones are not said to have records in them (prefills)", s.Contents.Records()[0])
	}
	var keys []record.Key
	for set := range s.Contents.Sets() {
		keys = append(keys, set.Key())
	}
	return r.put(keys)
}

func (r *run) cancelled() error {
	ctx, cancel := context.WithCancel(r.ctx)
	cancel()
	start := time.Now()
	_, err := r.Driver.Read(ctx, r.zone.Ref, provider.ReadFrom{})
	if err == nil {
		return errors.New("it went on")
	}
	if outcall.OutcomeOf(err) == outcall.Unclear {
		return fmt.Errorf("what became of it is %s", outcall.Unclear)
	}
	return checklist.Want(time.Since(start) < time.Second, "it took %s", time.Since(start))
}

func (r *run) remove() error {
	if r.caps.FixedZones && !r.zone.Ref.Name.IsZero() {
		s, err := r.read()
		if err != nil {
			return err
		}
		var keys []record.Key
		for set := range s.Contents.Sets() {
			keys = append(keys, set.Key())
		}
		return r.put(keys)
	}
	if !r.made {
		return checklist.NotApplicable("no scratch zone was made")
	}
	if err := r.Driver.Remove(r.ctx, r.zone.Ref); err != nil {
		return err
	}
	_, there, err := provider.FindZone(r.ctx, r.Driver, r.Zone)
	if err != nil {
		return err
	}
	return checklist.Want(!there, "it is still found")
}

func (r *run) removeAgain() error {
	if r.caps.FixedZones {
		return checklist.NotApplicable("zones are made elsewhere")
	}
	return checklist.WantKind(r.Driver.Remove(r.ctx, r.zone.Ref), outcall.NotFound)
}

// another makes a second zone of the same name, where the provider can have one, and removes it.
func (r *run) another() error {
	if !r.caps.Another {
		return checklist.NotApplicable("a name can have one zone only, as declared")
	}
	second, err := r.Driver.Create(r.ctx, r.Zone, provider.ZoneOptions{Another: true})
	if err != nil {
		return err
	}
	for _, n := range second.Nameservers {
		if slices.Contains(r.zone.Nameservers, n) {
			err = errors.Join(err, fmt.Errorf("the nameserver %s is one of both", n))
		}
	}
	ids := func() (list []string, err error) {
		zones, err := provider.AllZones(r.ctx, r.Driver)
		for _, z := range zones {
			if z.Ref.Name == r.Zone {
				list = append(list, z.Ref.ID)
			}
		}
		return list, err
	}
	both, listErr := ids()
	err = errors.Join(err, listErr, checklist.Want(len(both) == 2 || listErr != nil, "the list has %d zones of the name, not both", len(both)), r.Driver.Remove(r.ctx, second.Ref))
	if err != nil {
		return err
	}
	left, err := ids()
	if err != nil {
		return err
	}
	return checklist.Want(len(left) == 1 && left[0] == r.zone.Ref.ID, "after the second one was removed the list has %v, and should have %s", left, r.zone.Ref.ID)
}
