package profile

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/outcall"
	"beacon/provider"
)

// Driver drives one account through a profile.
type Driver struct{ *caller }

// caller makes the requests of a profile for one account.
type caller struct {
	profile *Profile
	runtime *Runtime
	client  *outcall.Client
	secrets secrets
	problem error // why the credential is of no use
	live    *live

	doubtsMu sync.Mutex
	doubts   []string
}

// mostDoubts is how many doubts are kept.
const mostDoubts = 3

func (d *caller) doubt(text string) {
	d.doubtsMu.Lock()
	defer d.doubtsMu.Unlock()
	if len(d.doubts) < mostDoubts {
		d.doubts = append(d.doubts, text)
	}
}

// Doubts returns records that were read whose data has a name without final dot, where the profile does not say what that means: a few of them.
func (d *caller) Doubts() []string {
	d.doubtsMu.Lock()
	defer d.doubtsMu.Unlock()
	return slices.Clone(d.doubts)
}

// New makes a driver for the provider account that the client belongs to.
func New(p *Profile, runtime *Runtime, client outcall.Client) *Driver {
	return &Driver{newCaller(p, runtime, client)}
}

// Zones lists a page of zones.
func (d *Driver) Zones(ctx context.Context, cursor provider.Cursor) (provider.ZonePage, error) {
	c := d.profile.zones
	rest, offset := splitCursor(c, string(cursor))
	a, err := d.do(ctx, c, question{cursor: rest, offset: offset})
	if err != nil {
		return provider.ZonePage{}, err
	}
	var page provider.ZonePage
	if page.Zones, err = d.readZones(ctx, c, a); err != nil {
		return provider.ZonePage{}, err
	}
	next, err := d.following(ctx, c, a, offset, len(page.Zones))
	page.Next = provider.Cursor(next)
	return page, err
}

func (d *Driver) readZones(ctx context.Context, c *call, a answer) (list []provider.Zone, err error) {
	items, err := d.results(ctx, "each", c.each, a)
	if err != nil {
		return nil, err
	}
	for _, item := range items {
		zone, err := readZone(item)
		if err != nil {
			return nil, d.client.Unreadable(a.asked, err)
		}
		list = append(list, zone)
	}
	return list, nil
}

// Find looks for a zone by its name: in one request where the interface can do that.
func (d *Driver) Find(ctx context.Context, name dnsname.Name) (provider.Zone, bool, error) {
	c := d.profile.find
	if c == nil {
		return provider.FindZone(ctx, struct{ provider.Driver }{d}, name)
	}
	a, err := d.do(ctx, c, question{zone: provider.ZoneRef{Name: name}})
	if outcall.KindOf(err) == outcall.NotFound {
		return provider.Zone{}, false, nil
	}
	if err != nil {
		return provider.Zone{}, false, err
	}
	list, err := d.readZones(ctx, c, a)
	for _, z := range list {
		if z.Ref.Name == name {
			return z, true, nil
		}
	}
	return provider.Zone{}, false, err
}

// Rights returns what the credential may do; none where the interface does not say.
func (d *Driver) Rights(ctx context.Context) (list []provider.Right, err error) {
	if d.profile.rights == nil {
		return nil, nil
	}
	a, err := d.do(ctx, d.profile.rights, question{})
	if err != nil {
		return nil, err
	}
	items, err := d.results(ctx, "each", d.profile.rights.each, a)
	for _, item := range items {
		var w word
		if err := w.UnmarshalJSON(item); err != nil {
			return nil, d.client.Unreadable(a.asked, err)
		}
		list = append(list, provider.Right(w))
	}
	return list, err
}

// Describe needs no request: the profile says it.
func (d *Driver) Describe(context.Context, provider.ZoneRef) (change.Caps, error) {
	return d.profile.Caps, nil
}

// Create makes a zone.
func (d *Driver) Create(ctx context.Context, name dnsname.Name, options provider.ZoneOptions) (provider.Zone, error) {
	if d.profile.create == nil {
		return provider.Zone{}, d.cannot("zones cannot be made through this interface; make it at the provider's site, then sync again")
	}
	q := question{zone: provider.ZoneRef{Name: name}}
	q.body = writeShape{Zone: shapeZone(q.zone), Contact: soa.Address(options.SOA.RName), Minimum: options.SOA.Minimum, SOA: shapeSOA(options.SOA), Another: options.Another}
	a, err := d.do(ctx, d.profile.create, q)
	if err != nil {
		return provider.Zone{}, err
	}
	items, err := d.results(ctx, "one", d.profile.create.one, a)
	if err != nil {
		return provider.Zone{}, err
	}
	if len(items) != 1 {
		return provider.Zone{}, d.client.Unreadable(a.asked, fmt.Errorf("%d zones in the answer, not one", len(items)))
	}
	zone, err := readZone(items[0])
	if err != nil {
		return zone, d.client.Unreadable(a.asked, err)
	}
	return zone, nil
}

// Remove deletes a zone.
func (d *Driver) Remove(ctx context.Context, zone provider.ZoneRef) error {
	if d.profile.remove == nil {
		return d.cannot("zones cannot be removed through this interface; remove it at the provider's site")
	}
	_, err := d.do(ctx, d.profile.remove, question{zone: zone, body: writeShape{Zone: shapeZone(zone)}})
	return err
}

// unmade is the error for a part of a request that could not be computed. Where only the time was over, as on a machine that stalls, it can be
// the next time; else never.
func (d *caller) unmade(part string, err error) error {
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		return &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "profile " + d.profile.Name,
			Said: part + ": the time was over before it was made"}
	}
	return d.cannot(part + ": " + err.Error())
}

func (d *caller) cannot(why string) error {
	return &outcall.Error{Kind: outcall.Refused, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "profile " + d.profile.Name, Said: why}
}

// Read returns a page of records. Where the profile can look for the change mark alone, an unchanged zone costs that
// small request, and a changed one both.
func (d *Driver) Read(ctx context.Context, zone provider.ZoneRef, from provider.ReadFrom) (provider.Page, error) {
	rest, offset := splitCursor(d.profile.read, string(from.Cursor))
	q := question{zone: zone, cursor: rest, offset: offset, mark: from.Mark}
	if d.profile.look != nil && from.Mark != "" {
		a, err := d.do(ctx, d.profile.look, q)
		if err != nil {
			return provider.Page{}, err
		}
		mark, err := d.scalar(ctx, "mark", d.profile.look.mark, a)
		if err != nil || mark == from.Mark {
			return provider.Page{Mark: mark, Unchanged: err == nil}, err
		}
		q.mark = ""
	}
	c := d.profile.read
	a, err := d.do(ctx, c, q)
	if err != nil {
		return provider.Page{}, err
	}
	if a.unchanged {
		return provider.Page{Mark: from.Mark, Unchanged: true}, nil
	}
	page := provider.Page{Details: change.Details{}}
	if page.Mark, err = d.scalar(ctx, "mark", c.mark, a); err != nil {
		return provider.Page{}, err
	}
	if from.Mark != "" && page.Mark == from.Mark { // whatever it holds is known
		return provider.Page{Mark: from.Mark, Unchanged: true}, nil
	}
	items, err := d.results(ctx, "each", c.each, a)
	if err != nil {
		return provider.Page{}, err
	}
	for _, item := range items {
		if err := readRecords(item, zone.Name, d.profile.targets, &page, d.doubt); err != nil {
			return provider.Page{}, d.client.Unreadable(a.asked, err)
		}
	}
	next, err := d.following(ctx, c, a, offset, len(items))
	page.Next = provider.Cursor(next)
	return page, err
}

// ReadName reads the sets at one name.
func (d *Driver) ReadName(ctx context.Context, zone provider.ZoneRef, name dnsname.Name) (page provider.Page, err error) {
	c := d.profile.readName
	if c == nil {
		return page, d.cannot("the records at one name cannot be read by themselves")
	}
	owner := shapeName(name, zone.Name)
	q := question{zone: zone, names: map[string]string{"label": owner.Label, "name": owner.Name, "host": owner.Host}}
	page.Details = change.Details{}
	err = outcall.Pages(ctx, func(ctx context.Context, cursor provider.Cursor) (provider.Cursor, error) {
		q.cursor, q.offset = splitCursor(c, string(cursor))
		a, err := d.do(ctx, c, q)
		if err != nil {
			return "", err
		}
		items, err := d.results(ctx, "each", c.each, a)
		if err != nil {
			return "", err
		}
		for _, item := range items {
			if err := readRecords(item, zone.Name, d.profile.targets, &page, d.doubt); err != nil {
				return "", d.client.Unreadable(a.asked, err)
			}
		}
		next, err := d.following(ctx, c, a, q.offset, len(items))
		return provider.Cursor(next), err
	})
	page.Records = slices.DeleteFunc(page.Records, func(r record.Record) bool { return r.Name != name })
	return page, err
}

// Apply does one batch in one request.
func (d *Driver) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	if step, ok := batch.SOA(); ok {
		return provider.Receipt{Zone: zone, Done: true}, d.setSOA(ctx, zone, step)
	}
	if d.profile.Caps.Overwrites {
		if err := d.unmoved(ctx, zone, batch); err != nil {
			return provider.Receipt{}, err
		}
	}
	q := question{zone: zone, mark: batch.Mark, body: d.profile.shapeBatch(zone, batch)}
	c := d.profile.write
	if d.profile.verbs != nil {
		var err error
		if c, err = d.single(&q); err != nil {
			return provider.Receipt{}, err
		}
	}
	a, err := d.do(ctx, c, q)
	if err != nil {
		return provider.Receipt{}, err
	}
	id, err := d.scalar(ctx, "receipt", c.receipt, a)
	return provider.Receipt{ID: id, Zone: zone, Done: err == nil && id == ""}, err
}

// unmoved refuses to replace a zone that is not what the batch was made from: the interface has no condition of its own for that. What another
// client changes between this read and the write is lost.
func (d *Driver) unmoved(ctx context.Context, zone provider.ZoneRef, batch change.Batch) error {
	now, err := provider.ReadAll(ctx, d, zone, provider.State{})
	if err != nil || now.Contents.Equal(batch.Base) {
		return err
	}
	return &outcall.Error{Kind: outcall.Conflict, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "profile " + d.profile.Name, Said: "the zone has changed since it was read"}
}

// single takes the one change of a batch for an interface with a request for each kind of change.
func (d *Driver) single(q *question) (*call, error) {
	w := &q.body
	if len(w.Ops)+len(w.Steps) != 1 {
		return nil, d.cannot(fmt.Sprintf("a request does one change, not %d", len(w.Ops)+len(w.Steps)))
	}
	if len(w.Ops) == 1 {
		op := w.Ops[0]
		w.Change, q.names = op, map[string]string{"ref": op.Ref, "label": op.Label, "name": op.Name, "host": op.Host, "type": op.Type}
		return d.profile.verbs[op.Verb], nil
	}
	step := w.Steps[0]
	w.Change, q.names = step, map[string]string{"ref": step.Ref, "label": step.Label, "name": step.Name, "host": step.Host, "type": step.Type}
	return d.profile.verbs[step.Verb], nil
}

// Poll asks what became of a batch.
func (d *Driver) Poll(ctx context.Context, receipt provider.Receipt) (provider.Receipt, error) {
	c := d.profile.poll
	if c == nil || receipt.ID == "" {
		return receipt, nil
	}
	done, err := d.polled(ctx, c, question{zone: receipt.Zone, receipt: receipt.ID}, d.failedLater())
	receipt.Done = done
	return receipt, err
}

// failedLater is the outcome of a batch that was accepted and failed: nothing of it was done where batches are done wholly or not at all.
func (d *Driver) failedLater() outcall.Outcome {
	if d.profile.Caps.Atomic {
		return outcall.NotDone
	}
	return outcall.Unclear
}

// polled asks whether something that was only accepted is done. failed is the outcome of what went wrong later.
func (d *caller) polled(ctx context.Context, c *call, q question, failed outcall.Outcome) (done bool, err error) {
	a, err := d.do(ctx, c, q)
	if err != nil {
		return false, err
	}
	why, err := d.scalar(ctx, "failed", c.failed, a)
	if err != nil {
		return false, err
	}
	if why != "" && why != "false" {
		return false, &outcall.Error{Kind: outcall.Refused, Outcome: failed, Account: d.client.Account, Asked: a.asked, Said: why}
	}
	text, err := d.scalar(ctx, "done", c.done, a)
	return text == "true", err
}
