package provider

import (
	"context"
	"time"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/looking"
	"beacon/outcall"
)

// PacedDriver is a driver whose requests wait for their turn, and whose reads are tried again where that is safe. It answers for
// what a driver may also be (Authority, Finder, NameReader, Server, Direct, Watcher, Prober, Holder): where the driver is none, there is nothing to answer.
type PacedDriver struct {
	Driver
	pace    outcall.Pace
	mine    func(context.Context, Zone) (bool, error) // which zones of the account it is about; nil for all
	another bool                                      // zones are made beside others of the same name
}

// Among returns the driver of some of the zones of the account: those for which mine returns true. Where another is true it makes zones beside others of the same name.
func (p PacedDriver) Among(mine func(context.Context, Zone) (bool, error), another bool) PacedDriver {
	p.mine, p.another = mine, another
	return p
}

// Paced returns a driver that keeps to a pace. Reads that were refused for being too many, or that broke off, are made
// again a few times within the context's time; writes are made once.
func Paced(d Driver, pace outcall.Pace) PacedDriver { return PacedDriver{Driver: d, pace: pace} }

// Zones returns one page of the zones of the account.
func (p PacedDriver) Zones(ctx context.Context, cursor Cursor) (page ZonePage, err error) {
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { page, err = p.Driver.Zones(ctx, cursor); return err })
	if p.mine == nil || err != nil {
		return page, err
	}
	all := page.Zones
	page.Zones = nil
	for _, z := range all {
		ours, err := p.mine(ctx, z)
		if err != nil {
			return page, err
		}
		if ours {
			page.Zones = append(page.Zones, z)
		}
	}
	return page, nil
}

// Find returns a zone by its name.
func (p PacedDriver) Find(ctx context.Context, name dnsname.Name) (z Zone, there bool, err error) {
	f, ok := p.Driver.(Finder)
	if !ok || p.mine != nil {
		return FindZone(ctx, struct{ Driver }{p}, name)
	}
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { z, there, err = f.Find(ctx, name); return err })
	return z, there, err
}

// Servers returns where the nameservers of the account are reached.
func (p PacedDriver) Servers() []string {
	if s, ok := p.Driver.(Server); ok {
		return s.Servers()
	}
	return nil
}

// At returns which nameserver the driver talks to; empty where it talks to none.
func (p PacedDriver) At() string { return At(p.Driver) }

// Behind returns the nameservers that do not serve yet what was written.
func (p PacedDriver) Behind(ctx context.Context, zone ZoneRef) []string {
	if w, ok := p.Driver.(Watcher); ok {
		return w.Behind(ctx, zone)
	}
	return nil
}

// Probe returns an error where the driver can show that its credential is wrong.
func (p PacedDriver) Probe(ctx context.Context) error {
	if pr, ok := p.Driver.(Prober); ok {
		return outcall.InTurn(ctx, p.pace, outcall.MostReads, func() error { return pr.Probe(ctx) })
	}
	return nil
}

// Rights returns what the credential may do.
func (p PacedDriver) Rights(ctx context.Context) (list []Right, err error) {
	h, ok := p.Driver.(Holder)
	if !ok {
		return nil, nil
	}
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { list, err = h.Rights(ctx); return err })
	return list, err
}

// SOA returns the zone's SOA set; none where the driver cannot tell.
func (p PacedDriver) SOA(ctx context.Context, zone ZoneRef) (set record.Set, err error) {
	a, ok := p.Driver.(Authority)
	if !ok {
		return set, nil
	}
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { set, err = a.SOA(ctx, zone); return err })
	return set, err
}

// Read returns one page of the records of a zone.
func (p PacedDriver) Read(ctx context.Context, zone ZoneRef, from ReadFrom) (page Page, err error) {
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { page, err = p.Driver.Read(ctx, zone, from); return err })
	return page, err
}

// ReadName returns the sets at a name; it fails where the driver cannot read them by themselves.
func (p PacedDriver) ReadName(ctx context.Context, zone ZoneRef, name dnsname.Name) (page Page, err error) {
	r, ok := p.Driver.(NameReader)
	if !ok {
		return page, &outcall.Error{Kind: outcall.Refused, Outcome: outcall.NotSent, Asked: "the records at " + name.String(), Said: "they cannot be read by themselves"}
	}
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { page, err = r.ReadName(ctx, zone, name); return err })
	return page, err
}

// Poll returns what became of a batch.
func (p PacedDriver) Poll(ctx context.Context, receipt Receipt) (out Receipt, err error) {
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { out, err = p.Driver.Poll(ctx, receipt); return err })
	return out, err
}

// change makes a request that changes something, once, unless the context only looks.
func (p PacedDriver) change(ctx context.Context, do func() error) error {
	if looking.Is(ctx) {
		return looking.ErrLooking
	}
	return outcall.InTurn(ctx, p.pace, 1, func() error {
		if err := outcall.TooLate(ctx); err != nil {
			return err
		}
		return do()
	})
}

// Create makes a zone, and returns once it can be read, where the provider takes a moment for that.
func (p PacedDriver) Create(ctx context.Context, name dnsname.Name, options ZoneOptions) (z Zone, err error) {
	options.Another = options.Another || p.another
	if err = p.change(ctx, func() (err error) { z, err = p.Driver.Create(ctx, name, options); return err }); err == nil {
		AwaitZone(ctx, p, z.Ref)
	}
	return z, err
}

// AwaitZone waits until a zone that was just made can be read, for as long as its provider may take for that.
func AwaitZone(ctx context.Context, d Driver, zone ZoneRef) {
	caps, err := d.Describe(ctx, zone)
	for until := time.Now().Add(caps.CreateLag); err == nil && time.Now().Before(until); {
		if _, err := d.Read(ctx, zone, ReadFrom{}); outcall.KindOf(err) != outcall.NotFound {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(min(caps.CreateLag/10, time.Second)):
		}
	}
}

// Remove removes a zone.
func (p PacedDriver) Remove(ctx context.Context, zone ZoneRef) error {
	return p.change(ctx, func() error { return p.Driver.Remove(ctx, zone) })
}

// Apply sends a batch.
func (p PacedDriver) Apply(ctx context.Context, zone ZoneRef, batch change.Batch) (r Receipt, err error) {
	err = p.change(ctx, func() (err error) { r, err = p.Driver.Apply(ctx, zone, batch); return err })
	return r, err
}
