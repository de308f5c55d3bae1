package sync

import (
	"context"
	"slices"

	"beacon/core/change"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/provider"
)

func (p Place) soaKey() record.Key { return record.Key{Name: p.Zone.Name(), Type: record.SOA} }

// readSOA adds the SOA set, with serial 0, to a state where fields of it are desired, and leaves none where none are.
func (p Place) readSOA(ctx context.Context, state provider.State) (provider.State, error) {
	driver, ok := p.Driver.(provider.Authority)
	is := state.Contents.Get(p.soaKey())
	switch {
	case !ok || p.SOA.IsZero():
		if !is.IsZero() {
			state.Contents = state.Contents.Without(p.soaKey())
		}
		return state, nil
	case state.Unchanged && !is.IsZero():
		return state, nil
	}
	now, err := driver.SOA(ctx, p.Ref())
	if err != nil || now.Equal(is) {
		return state, err
	}
	state.Contents = state.Contents.With(now)
	if state.Changed != nil {
		state.Changed = append(state.Changed, p.soaKey())
	}
	return state, nil
}

// withSOA returns wanted with the SOA set that is live, and in it the desired fields.
func (p Place) withSOA(wanted, live record.Contents) record.Contents {
	if is, ok := soa.Of(live.Get(p.soaKey())); ok && !p.SOA.IsZero() {
		return wanted.With(p.SOA.Over(is).Record(p.Zone.Name()))
	}
	return wanted
}

// soaRefused drops the change of the SOA record that this run made already, and notes that the provider did not do it: records do not wait for that.
func (r *syncRun) soaRefused(c *comparison) {
	about := func(s change.Step) bool { return s.Key() == r.soaKey() }
	at := slices.IndexFunc(c.result.Steps, about)
	if at < 0 || !r.soaLost && !slices.ContainsFunc(r.applied, about) {
		return
	}
	r.soaLost = true
	r.applied = slices.DeleteFunc(r.applied, about) // nobody waits for it to be served
	is, _ := soa.Of(c.result.Steps[at].Before)
	c.result.Steps = slices.Delete(slices.Clone(c.result.Steps), at, at+1)
	c.notes = append(c.notes, soa.NotTaken(r.Zone.Name(), r.Account.Name, r.SOA, is))
}
