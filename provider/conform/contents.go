package conform

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"beacon/checklist"
	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

func contains(text, part string) bool { return strings.Contains(text, part) }

// contents are the checks that put records and look what becomes of them.
func (r *run) contents() []checklist.Check {
	zone := record.Data(r.Zone.String())
	kinds := []struct {
		name string
		sets []record.Set
	}{
		{"two addresses of one name", r.sets(r.set("two", record.A, 300, "192.0.2.1", "192.0.2.2"))},
		{"an IPv6 address", r.sets(r.set("six", record.AAAA, 300, "2001:db8::1"))},
		{"a CNAME to a name in the zone", r.sets(r.set("www", record.CNAME, 3600, zone))},
		{"mail hosts with preferences, at the apex", r.sets(r.set("@", record.MX, 3600, "10 mx1.post.example.", "20 mx2.post.example."))},
		{"several texts at the apex", r.sets(r.set("@", record.TXT, 3600, `"v=spf1 mx -all"`, `"second"`))},
		{"a text with quotes, backslashes and semicolons", r.sets(r.set("quotes", record.TXT, 300, `"a \"b\" \\ c; d=e"`))},
		{"a text of several strings", r.sets(r.set("strings", record.TXT, 600, `"v=DKIM1; p=AAAA" "BBBB"`))},
		{"a text of more than 255 octets", r.sets(r.set("long", record.TXT, 600, record.Data(record.Quoted(strings.Repeat("long text ", 40)))))},
		{"a text beyond ASCII", r.sets(r.set("abroad", record.TXT, 600, record.Data(record.Quoted("Fähre täglich"))))},
		{"which authority may issue certificates", r.sets(r.set("@", record.CAA, 3600, `0 issue "ca.example"`))},
		{"a service at a name with underscores", r.sets(r.set("_sip._tcp", record.SRV, 3600, "1 2 5060 two."+zone))},
		{"a wildcard", r.sets(r.set("*.pier", record.A, 300, "192.0.2.9"))},
		{"a delegation below the apex", r.sets(r.set("sub", record.NS, 3600, "ns1.elsewhere.example.", "ns2.elsewhere.example."))},
		{"a name of a long label and many labels", r.sets(r.set(strings.Repeat("l", 63)+".a.b.c.d.e", record.A, 300, "192.0.2.3"))},
		{"a name beyond ASCII", r.sets(r.set("fähre", record.A, 300, "192.0.2.4"))},
		{"several types at one name", r.sets(r.set("mixed", record.A, 300, "192.0.2.5"), r.set("mixed", record.TXT, 300, `"x"`), r.set("mixed", record.MX, 300, "10 two."+zone))},
		{"TTLs from 1 s to a week, as far as they can be held", r.sets(r.set("quick", record.A, 1, "192.0.2.6"), r.set("slow", record.A, 604800, "192.0.2.7"))},
	}
	var list []checklist.Check
	for _, k := range kinds {
		list = append(list, checklist.Check{Name: "comes back as it was put: " + k.name, Do: func() error { return r.holds(k.sets) }})
	}
	return append(list, []checklist.Check{
		{Name: "other data for a set, and the rest stays", Do: r.changeData},
		{Name: "another TTL for a set", Do: r.changeTTL},
		{Name: "a record comes into a set, and goes out of it", Do: r.growAndShrink},
		{Name: "a CNAME replaces addresses", Do: r.swapThere},
		{Name: "addresses replace a CNAME", Do: r.swapBack},
		{Name: "sets are removed, and the rest stays", Do: r.removeSome},
		{Name: "putting what is there already changes nothing", Do: r.repeat},
		{Name: "an ALIAS at the apex", Do: r.apexAlias},
		{Name: "the apex NS set names other nameservers, and the provider's own again", Do: r.apexNS},
		{Name: "named attributes are kept, and come back", Do: r.setExtras},
		{Name: "named attributes survive a change that does not speak of them", Do: r.keepExtras},
		{Name: "a full batch is one request", Do: r.fullBatch},
		{Name: "a large zone is read to its end", Do: r.pages},
		{Name: "the records at one name are read by themselves", Do: r.byName},
		{Name: "an unchanged zone is recognised by its mark", Do: r.sameMark},
		{Name: "a changed zone is recognised by its mark", Do: r.otherMark},
		{Name: "a write from an older read is refused, and loses nothing", Do: r.staleMark},
		{Name: "fields of the SOA record are set, one at a time, and the others stay", Do: r.authority},
		{Name: "records that collide are refused", Do: r.collide},
		{Name: "a refused batch leaves nothing behind, where batches are atomic", Do: r.nothingLeft},
	}...)
}

func (r *run) sets(list ...record.Set) []record.Set { return list }

func (r *run) name(label string) dnsname.Name {
	n, err := dnsname.ParseRelative(label, r.Zone)
	if err != nil {
		panic(err) // labels are ours
	}
	return n
}

func (r *run) set(label string, t record.Type, ttl uint32, data ...record.Data) record.Set {
	return record.NewSet(r.name(label), t, ttl, data...)
}

// read returns the records that are ours to write.
func (r *run) read() (provider.State, error) {
	s, err := provider.ReadAll(r.ctx, r.Driver, r.zone.Ref, provider.State{})
	s.Contents = s.Contents.Filter(func(k record.Key) bool { return !r.caps.Owned(r.Zone, k) })
	return s, err
}

// holds puts sets and sees whether they come back, as far as they can be held.
func (r *run) holds(sets []record.Set) error {
	projected, _ := r.caps.Project(r.Zone, record.ContentsOf(sets...))
	if projected.Len() == 0 {
		return checklist.NotApplicable("not supported, as declared")
	}
	var list []record.Set
	for s := range projected.Sets() {
		list = append(list, s)
	}
	return r.put(nil, list...)
}

// put makes the given sets what they are to be, and those at the keys absent, and sees whether the zone is then just that.
func (r *run) put(removed []record.Key, sets ...record.Set) error {
	s, err := r.read()
	if err != nil {
		return err
	}
	var list change.List
	for _, key := range removed {
		list = append(list, change.Step{Before: s.Contents.Get(key)})
	}
	for _, set := range sets {
		list = append(list, change.Step{Before: s.Contents.Get(set.Key()), After: set})
	}
	if err := r.apply(list, s); err != nil {
		return err
	}
	return r.is(list.Apply(s.Contents))
}

// apply does a list, in as many batches as it takes.
func (r *run) apply(list change.List, s provider.State) error {
	for i, b := range r.caps.Pack(list, s.Contents) {
		if i > 0 {
			now, err := r.read()
			if err != nil {
				return err
			}
			s = now
		}
		b.Mark, b.Details = s.Mark, s.Details
		if err := r.batch(b); err != nil {
			return err
		}
	}
	return nil
}

// batch does one batch to its end, and waits until reads show it.
func (r *run) batch(b change.Batch) error {
	receipt, err := r.Driver.Apply(r.ctx, r.zone.Ref, b)
	for try := 0; err == nil && !receipt.Done; try++ {
		if try > 400 {
			return errors.New("an accepted batch is not done in 20 s")
		}
		if err = r.pause(50 * time.Millisecond); err == nil {
			receipt, err = r.Driver.Poll(r.ctx, receipt)
		}
	}
	if err != nil {
		return err
	}
	return r.pause(r.caps.ReadLag)
}

func (r *run) pause(d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-r.ctx.Done():
		return r.ctx.Err()
	}
}

// is compares the zone with what it should hold.
func (r *run) is(expected record.Contents) error {
	s, err := r.read()
	if err != nil {
		return err
	}
	added, removed, _ := record.Difference(expected, s.Contents)
	switch {
	case len(removed) > 0 && len(added) > 0:
		return fmt.Errorf("it should hold %s, and holds %s", removed[0], added[0])
	case len(removed) > 0:
		return fmt.Errorf("it should hold %s", removed[0])
	case len(added) > 0:
		return fmt.Errorf("it holds %s, which was not put there", added[0])
	}
	return nil
}

func (r *run) changeData() error {
	return r.put(nil, r.held(r.set("two", record.A, 300, "192.0.2.3", "192.0.2.4")), r.held(r.set("new", record.A, 300, "192.0.2.5")))
}

// held is a set as it can be held there.
func (r *run) held(s record.Set) record.Set {
	s.TTL = r.caps.TTL(s.TTL)
	return s
}

func (r *run) changeTTL() error {
	return r.put(nil, r.held(r.set("two", record.A, 3600, "192.0.2.3", "192.0.2.4")))
}

func (r *run) growAndShrink() error {
	if err := r.put(nil, r.held(r.set("two", record.A, 3600, "192.0.2.3", "192.0.2.4", "192.0.2.5"))); err != nil {
		return err
	}
	return r.put(nil, r.held(r.set("two", record.A, 3600, "192.0.2.5")))
}

// without says that a check needs a type that the provider does not take; nil where it does.
func (r *run) without(t record.Type) error {
	if r.caps.Holds(t) {
		return nil
	}
	return checklist.NotApplicable("it takes no " + t.String() + " records, as declared")
}

func (r *run) swapThere() error {
	if err := r.without(record.CNAME); err != nil {
		return err
	}
	address, alias := r.held(r.set("swap", record.A, 300, "192.0.2.5", "192.0.2.6")), r.held(r.set("swap", record.CNAME, 300, "elsewhere.example."))
	if err := r.put(nil, address); err != nil {
		return err
	}
	return r.put([]record.Key{address.Key()}, alias)
}

func (r *run) swapBack() error {
	if err := r.without(record.CNAME); err != nil {
		return err
	}
	return r.put([]record.Key{{Name: r.name("swap"), Type: record.CNAME}}, r.held(r.set("swap", record.A, 300, "192.0.2.5")))
}

func (r *run) removeSome() error {
	return r.put([]record.Key{{Name: r.name("new"), Type: record.A}, {Name: r.name("*.pier"), Type: record.A}})
}

func (r *run) repeat() error {
	s, err := r.read()
	if err != nil {
		return err
	}
	set := s.Contents.Get(record.Key{Name: r.name("six"), Type: record.AAAA})
	if !r.caps.Holds(record.AAAA) {
		set = s.Contents.Get(record.Key{Name: r.name("two"), Type: record.A})
	}
	if set.IsZero() {
		return errors.New("the addresses of before are gone")
	}
	return r.put(nil, set)
}

func (r *run) apexAlias() error {
	if !r.caps.ApexAlias {
		return checklist.NotApplicable("none, as declared")
	}
	if err := r.put(nil, r.held(r.set("@", record.ALIAS, 300, "elsewhere.example."))); err != nil {
		return err
	}
	return r.put([]record.Key{{Name: r.Zone, Type: record.ALIAS}})
}

// apexNS writes another apex NS set, changes it, and gives it back to the provider.
func (r *run) apexNS() error {
	if !r.caps.ApexNS {
		return checklist.NotApplicable("it cannot be written, as declared")
	}
	own := r.caps
	defer func() { r.caps = own }()
	hosts := []dnsname.Name{dnsname.MustParse("ns1.elsewhere.example"), dnsname.MustParse("ns2.elsewhere.example")}
	r.caps = own.Telling(hosts, 0)
	for _, data := range [][]record.Data{{"ns1.elsewhere.example.", "ns2.elsewhere.example."}, {"ns3.elsewhere.example."}} {
		if err := r.put(nil, r.held(r.set("@", record.NS, 3600, data...))); err != nil {
			return err
		}
	}
	return r.put([]record.Key{{Name: r.Zone, Type: record.NS}})
}

// extraValue is a value that the first attribute can have.
func (r *run) extraValue() (change.Attribute, string) {
	e := r.caps.Attributes[0]
	if len(e.Values) > 0 {
		return e, e.Values[0]
	}
	return e, "lifeboat"
}

func (r *run) setExtras() error {
	if len(r.caps.Attributes) == 0 {
		return checklist.NotApplicable("it has none")
	}
	e, value := r.extraValue()
	s, err := r.read()
	if err != nil {
		return err
	}
	step := change.Step{After: r.held(r.set("extra", record.A, 300, "192.0.2.8")), Attributes: map[string]string{e.Name: value}}
	if err := r.apply(change.List{step}, s); err != nil {
		return err
	}
	return r.extraIs(e, value)
}

func (r *run) extraIs(e change.Attribute, value string) error {
	s, err := r.read()
	if err != nil {
		return err
	}
	got := s.Details[record.Key{Name: r.name("extra"), Type: record.A}].Attributes[e.Name]
	return checklist.Want(got == value, "%s should be %q, and is %q", e.Name, value, got)
}

func (r *run) keepExtras() error {
	if len(r.caps.Attributes) == 0 {
		return checklist.NotApplicable("it has none")
	}
	if err := r.put(nil, r.held(r.set("extra", record.A, 3600, "192.0.2.9"))); err != nil {
		return err
	}
	e, value := r.extraValue()
	return r.extraIs(e, value)
}

func (r *run) fullBatch() error {
	n := r.caps.BatchSize
	if n == 0 {
		n = 25
	}
	n = min(n, 100)
	s, err := r.read()
	if err != nil {
		return err
	}
	var list change.List
	for i := range n {
		list = append(list, change.Step{After: r.held(r.set(fmt.Sprintf("full-%03d", i), record.A, 300, record.Data(fmt.Sprintf("198.51.100.%d", i))))})
	}
	batches := r.caps.Pack(list, s.Contents)
	if len(batches) != 1 {
		return fmt.Errorf("%d sets are %d requests", n, len(batches))
	}
	if err := r.apply(list, s); err != nil {
		return err
	}
	return r.is(list.Apply(s.Contents))
}

func (r *run) pages() error {
	var many []record.Set
	for i := range 130 {
		many = append(many, r.held(r.set(fmt.Sprintf("gauge-%03d", i), record.A, 300, record.Data(fmt.Sprintf("203.0.113.%d", i)))))
	}
	return r.put(nil, many...)
}

func (r *run) markNow() (provider.State, error) {
	s, err := r.read()
	if err == nil && !r.caps.Marks {
		if s.Mark != "" {
			return s, errors.New("a read returns a change mark, and the capabilities have none")
		}
		return s, checklist.NotApplicable("it has no change marks")
	}
	return s, err
}

func (r *run) sameMark() error {
	s, err := r.markNow()
	if err != nil {
		return err
	}
	page, err := r.Driver.Read(r.ctx, r.zone.Ref, provider.ReadFrom{Mark: s.Mark, Known: &s.Contents})
	if err != nil {
		return err
	}
	return checklist.Want(page.Unchanged, "nothing was changed since mark %q, and the zone is read as changed", s.Mark)
}

func (r *run) otherMark() error {
	s, err := r.markNow()
	if err != nil {
		return err
	}
	if err := r.put(nil, r.held(r.set("marked", record.A, 300, "192.0.2.1"))); err != nil {
		return err
	}
	now, err := provider.ReadAll(r.ctx, r.Driver, r.zone.Ref, s)
	switch {
	case err != nil:
		return err
	case now.Unchanged:
		return fmt.Errorf("something was changed since mark %q, and the zone is read as unchanged", s.Mark)
	}
	return checklist.Want(!now.Contents.Get(record.Key{Name: r.name("marked"), Type: record.A}).IsZero(), "what was read from the mark on does not show the change")
}

func (r *run) staleMark() error {
	if !r.caps.Guarded && !r.caps.GuardedSets {
		return checklist.NotApplicable("writes cannot be made to depend on what was read")
	}
	old, err := r.read()
	if err != nil {
		return err
	}
	meanwhile := r.held(r.set("meanwhile", record.A, 300, "192.0.2.1"))
	if err := r.put(nil, meanwhile); err != nil {
		return err
	}
	batch := r.caps.Pack(change.List{{Before: old.Contents.Get(meanwhile.Key()), After: r.held(r.set("meanwhile", record.A, 300, "192.0.2.2"))}}, old.Contents)[0]
	batch.Mark, batch.Details = old.Mark, old.Details
	if err := checklist.WantKind(r.batch(batch), outcall.Conflict); err != nil {
		return err
	}
	now, err := r.read()
	if err != nil {
		return err
	}
	return checklist.Want(now.Contents.Get(meanwhile.Key()).SameData(meanwhile), "the change of another client was lost")
}

// collision is a batch with a set that is fine and one that collides.
func (r *run) collision() (change.Batch, provider.State, error) {
	s, err := r.read()
	if err != nil {
		return change.Batch{}, s, err
	}
	list := change.List{{After: r.held(r.set("fine", record.A, 300, "192.0.2.1"))}, {After: r.held(r.set("two", record.CNAME, 300, "x.example."))}}
	if s.Contents.Get(record.Key{Name: r.name("two"), Type: record.A}).IsZero() {
		return change.Batch{}, s, errors.New("the addresses of before are gone")
	}
	b := r.caps.Pack(list, s.Contents)[0]
	if len(b.Steps) == 1 {
		b = r.caps.Pack(list[1:], s.Contents)[0]
	}
	b.Mark, b.Details = s.Mark, s.Details
	return b, s, nil
}

func (r *run) collide() error {
	if err := r.without(record.CNAME); err != nil {
		return err
	}
	b, s, err := r.collision()
	if err != nil {
		return err
	}
	if err := r.batch(b); err != nil {
		if kind := outcall.KindOf(err); kind != outcall.Refused && !(kind == outcall.Conflict && r.caps.GuardedSets) {
			return fmt.Errorf("it should have been refused: %w", err)
		}
		return r.alone()
	}
	_ = s
	return errors.New("a CNAME was accepted beside addresses")
}

// alone sees that no CNAME stands beside other data.
func (r *run) alone() error {
	s, err := r.read()
	if err != nil {
		return err
	}
	return checklist.Want(s.Contents.Get(record.Key{Name: r.name("two"), Type: record.CNAME}).IsZero(), "a CNAME is beside addresses now")
}

func (r *run) nothingLeft() error {
	if err := r.without(record.CNAME); err != nil {
		return err
	}
	if !r.caps.Atomic {
		return checklist.NotApplicable("batches are not atomic")
	}
	b, s, err := r.collision()
	if err != nil {
		return err
	}
	if err := r.batch(b); err == nil || outcall.OutcomeOf(err) != outcall.NotDone {
		return fmt.Errorf("it should have been refused, and not done: %v", err)
	}
	return r.is(s.Contents)
}
