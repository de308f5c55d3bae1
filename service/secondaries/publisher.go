package secondaries

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/outcall"
	"beacon/primary"
	"beacon/provider"
	"beacon/provider/update"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/store"
	"beacon/wire"
)

// publisher is the driver of such an account: the provider is ourselves, and what it keeps is in our own database.
type publisher struct {
	s       *Secondaries
	account accounts.Connection
	list    []secondary
	key     primary.Notifier
}

// publisherOf makes the driver of an account with a key, ALGORITHM:NAME:SECRET.
func (s *Secondaries) publisherOf(a accounts.Connection) (*publisher, error) {
	list, err := parseSecondaries(a.Address)
	if err != nil {
		return nil, wire.Problemf(wire.Invalid, "%s.", wording.Sentence(err.Error()))
	}
	key, err := notifierOf(s, a.Secret)
	if err != nil {
		return nil, wire.Problemf(wire.Invalid, "%s.", wording.Sentence(err.Error()))
	}
	return &publisher{s, a, list, key}, nil
}

func notifierOf(s *Secondaries, secret string) (primary.Notifier, error) {
	parts := strings.SplitN(secret, ":", 3)
	algorithms := map[string]string{"hmac-sha224": dns.HmacSHA224, "hmac-sha256": dns.HmacSHA256, "hmac-sha384": dns.HmacSHA384, "hmac-sha512": dns.HmacSHA512}
	if len(parts) != 3 || algorithms[parts[0]] == "" || parts[1] == "" || parts[2] == "" {
		return primary.Notifier{}, errors.New("the credential is written ALGORITHM:KEYNAME:SECRET, such as hmac-sha256:beacon-key:BASE64")
	}
	if err := update.CheckKey(secret); err != nil {
		return primary.Notifier{}, err
	}
	return primary.Notifier{Door: s.door, Algorithm: algorithms[parts[0]], KeyName: dns.CanonicalName(parts[1]), Secret: parts[2]}, nil
}

func (p *publisher) fail(kind outcall.Kind, outcome outcall.Outcome, asked, said string) error {
	return &outcall.Error{Kind: kind, Outcome: outcome, Account: p.account.Name, Asked: asked, Said: said}
}

// stored makes an error of the driver out of one of the database.
func (p *publisher) stored(asked string, err error) error {
	switch {
	case err == nil:
		return nil
	case store.IsMissing(err):
		return p.fail(outcall.NotFound, outcall.NotDone, asked, "no such zone is published")
	}
	var told *outcall.Error
	if errors.As(err, &told) {
		return told
	}
	return p.fail(outcall.Unavailable, outcall.NotDone, asked, err.Error())
}

// Probe asks whether every secondary answers at all.
func (p *publisher) Probe(ctx context.Context) error {
	for _, sec := range p.list {
		if _, _, err := p.key.Serial(ctx, sec.at, dnsname.Root); err != nil {
			return p.fail(outcall.Unavailable, outcall.NotDone, "SOA", err.Error())
		}
	}
	return nil
}

func (p *publisher) names() (list []dnsname.Name) {
	for _, sec := range p.list {
		list = append(list, sec.name)
	}
	return dnsname.SortSet(list)
}

func (p *publisher) zone(name dnsname.Name) provider.Zone {
	return provider.Zone{Ref: provider.ZoneRef{ID: name.String(), Name: name}, Nameservers: p.names()}
}

func (p *publisher) Zones(ctx context.Context, _ provider.Cursor) (page provider.ZonePage, err error) {
	err = p.s.store.Tx(ctx, func(tx *store.Tx) error {
		list, err := tx.PublishedZones(p.account.ID)
		page = provider.ZonePage{}
		for _, z := range list {
			page.Zones = append(page.Zones, p.zone(z.Name()))
		}
		return err
	})
	return page, p.stored("zones", err)
}

func (p *publisher) Describe(context.Context, provider.ZoneRef) (change.Caps, error) {
	return change.Caps{Granularity: change.BySet, Atomic: true, OwnsApex: true, Marks: true, GuardedSets: true, SOA: soa.Fields}, nil
}

// Create publishes a zone under a serial above that of every secondary which serves it already.
func (p *publisher) Create(ctx context.Context, name dnsname.Name, _ provider.ZoneOptions) (provider.Zone, error) {
	serial := primary.NextSerial(p.serials(ctx, name, 0)...)
	err := p.s.store.Tx(ctx, func(tx *store.Tx) error {
		if _, err := tx.PublishedZone(name); err == nil {
			return p.fail(outcall.Conflict, outcall.NotDone, "zones", name.String()+" is published already")
		}
		return tx.AddPublished(p.account.ID, name, serial)
	})
	return p.zone(name), p.stored("zones", err)
}

// serials returns our serial and those that secondaries serve. One that does not answer in time is left out: it will be told
// of a change again until it has it, and its serial is looked at before the next one.
func (p *publisher) serials(ctx context.Context, name dnsname.Name, ours uint32) []uint32 {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	got := make(chan uint32, len(p.list))
	for _, sec := range p.list {
		go func() {
			serial, ok, err := p.key.Serial(ctx, sec.at, name)
			if err != nil || !ok {
				serial = ours
			}
			got <- serial
		}()
	}
	all := []uint32{ours}
	for range p.list {
		all = append(all, <-got)
	}
	return all
}

func (p *publisher) Remove(ctx context.Context, zone provider.ZoneRef) error {
	return p.stored("zones", p.s.store.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.LockPublished(zone.Name)
		if err != nil {
			return err
		}
		return tx.RemovePublished(z.ID)
	}))
}

func (p *publisher) Read(ctx context.Context, zone provider.ZoneRef, from provider.ReadFrom) (page provider.Page, err error) {
	err = p.s.store.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.PublishedZone(zone.Name)
		if err != nil {
			return err
		}
		page = provider.Page{Mark: strconv.FormatUint(uint64(z.Serial), 10)}
		if page.Mark == from.Mark {
			page.Unchanged = true
			return nil
		}
		v, err := tx.Version(z.ID, z.Serial)
		if err != nil {
			return err
		}
		c, _, err := published(v)
		page.Records = c.Records()
		return err
	})
	return page, p.stored("read", err)
}

// published reads the records of a version, and the desired fields of its SOA record.
func published(v store.PublishedVersion) (c record.Contents, desired soa.Parameters, err error) {
	read, faults := zonefile.Read(v.Contents, zonefile.Options{Origin: dnsname.Root})
	if len(faults) > 0 {
		return c, desired, fmt.Errorf("what is published under serial %d cannot be read: %w", v.Serial, faults[0])
	}
	c = read.Contents().Filter(func(k record.Key) bool { return k.Type != record.SOA })
	for _, r := range read.Contents().Records() {
		if r.Type == record.SOA {
			desired, _ = soa.Of(record.SetOf([]record.Record{r}))
		}
	}
	return c, desired, nil
}

// parameters returns the fields of the SOA record as secondaries are given it.
func (p *publisher) parameters(zone dnsname.Name, desired soa.Parameters) soa.Parameters {
	return primary.Parameters(zone, p.names(), desired)
}

// expire returns how long secondaries serve a version without us, in seconds.
func (p *publisher) expire(v store.PublishedVersion, zone dnsname.Name) uint32 {
	_, desired, _ := published(v) // one that cannot be read is told of where it is served
	return p.parameters(zone, desired).Expire
}

// SOA returns the zone's SOA set, with serial 0.
func (p *publisher) SOA(ctx context.Context, zone provider.ZoneRef) (set record.Set, err error) {
	err = p.s.store.Tx(ctx, func(tx *store.Tx) error {
		_, v, err := p.newest(tx, zone.Name)
		if err != nil {
			return err
		}
		_, desired, err := published(v)
		set = p.parameters(zone.Name, desired).Record(zone.Name)
		return err
	})
	return set, p.stored("SOA", err)
}

// newest returns a published zone, locked, with its newest version.
func (p *publisher) newest(tx *store.Tx, name dnsname.Name) (z store.Published, v store.PublishedVersion, err error) {
	if z, err = tx.LockPublished(name); err == nil {
		v, err = tx.Version(z.ID, z.Serial)
	}
	return z, v, err
}

// Apply publishes what a batch leaves behind, under the next serial: it is kept before anybody is given it. Then the
// secondaries are told.
func (p *publisher) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	theirs := p.serials(ctx, zone.Name, 0)[1:]
	err := p.s.store.Tx(ctx, func(tx *store.Tx) error {
		z, v, err := p.newest(tx, zone.Name)
		if err != nil {
			return err
		}
		now, desired, err := published(v)
		if err != nil {
			return err
		}
		next, desired, err := p.after(zone.Name, batch, now, desired)
		if err != nil {
			return err
		}
		serial := z.Serial
		for _, s := range theirs {
			if s != 0 && primary.Newer(s, serial) {
				serial = s
			}
		}
		lines := linesOf(next)
		if !desired.IsZero() {
			lines += linesOf(record.ContentsOf(desired.Record(zone.Name)))
		}
		if err := tx.Publish(z.ID, primary.NextSerial(serial), lines); err != nil {
			return err
		}
		return jobs.EnqueueIn(tx, store.JobNotify, z.ID, p.account.ID, p.s.store.Now())
	})
	p.s.jobs.Wake(store.JobNotify)
	return provider.Receipt{Zone: zone, Done: err == nil}, p.stored("publish", err)
}

// after returns what a batch leaves behind. Fields of the SOA record that are as they would be by themselves are not desired ones.
func (p *publisher) after(zone dnsname.Name, batch change.Batch, now record.Contents, desired soa.Parameters) (record.Contents, soa.Parameters, error) {
	if step, ok := batch.SOA(); ok {
		if !p.parameters(zone, desired).Record(zone).Equal(step.Before) {
			return now, desired, p.fail(outcall.Conflict, outcall.NotDone, "publish", step.Key().String()+" is not what it was")
		}
		all, _ := soa.Of(step.After)
		itself := p.parameters(zone, soa.Parameters{})
		return now, all.Only(slices.DeleteFunc(all.Given(), func(field string) bool { return all.Get(field) == itself.Get(field) })), nil
	}
	for _, s := range batch.Steps {
		if !now.Get(s.Key()).Equal(s.Before) {
			return now, desired, p.fail(outcall.Conflict, outcall.NotDone, "publish", s.Key().String()+" is not what it was")
		}
	}
	next := batch.Steps.Apply(now)
	if err := standsTogether(next); err != nil {
		return now, desired, p.fail(outcall.Refused, outcall.NotDone, "publish", err.Error())
	}
	return next, desired, nil
}

func standsTogether(c record.Contents) error {
	for _, r := range c.Records() {
		for _, other := range c.At(r.Name) {
			if record.Collide(r.Type, other.Type) {
				return fmt.Errorf("%s would have %s beside %s", r.Name, r.Type, other.Type)
			}
		}
	}
	return nil
}

func linesOf(c record.Contents) string {
	var b strings.Builder
	for _, r := range c.Records() {
		b.WriteString(r.String())
		b.WriteByte('\n')
	}
	return b.String()
}

func (p *publisher) Poll(_ context.Context, receipt provider.Receipt) (provider.Receipt, error) {
	return receipt, nil
}

// Behind returns which secondaries do not serve the newest serial, and when what they have expires (RFC 1035 section 3.3.13):
// then they stop answering for the zone.
func (p *publisher) Behind(ctx context.Context, zone provider.ZoneRef) (list []string) {
	var z store.Published
	var expire uint32
	if err := p.s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		var v store.PublishedVersion
		z, v, err = p.newest(tx, zone.Name)
		expire = p.expire(v, zone.Name)
		return err
	}); err != nil {
		return nil
	}
	for _, sec := range p.list {
		serial, ok, err := p.key.Serial(ctx, sec.at, zone.Name)
		switch {
		case err != nil:
			list = append(list, fmt.Sprintf("%s does not answer", sec.at))
		case !ok:
			list = append(list, fmt.Sprintf("%s does not serve the zone: it was never transferred, or has expired", sec.at))
		case primary.Newer(z.Serial, serial):
			list = append(list, fmt.Sprintf("%s serves serial %d and not %d, and will stop answering %s after it last reached us", sec.at, serial, z.Serial, wording.Seconds(expire)))
		}
	}
	return list
}

// publisherWith opens an account's credential and gives its driver bare.
func (s *Secondaries) publisherWith(a store.Account) (*publisher, error) {
	secret, err := s.accounts.Secret(a)
	if err != nil {
		return nil, err
	}
	return s.publisherOf(accounts.Connection{ID: a.ID, Name: a.Name, Address: a.Address, Secret: secret})
}

// Servers returns where the nameservers of an account are reached, which their names need not lead to from here.
func (p *publisher) Servers() []string {
	list := make([]string, len(p.list))
	for i, sec := range p.list {
		list[i] = net.JoinHostPort(sec.at.Addr().String(), fmt.Sprint(sec.at.Port()))
	}
	return list
}
