// Package conform holds the run that every driver of a DNS provider must pass. It works on a scratch zone that it makes
// and removes, against a real interface or one of the practice world.
package conform

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

// Subject is what the run is made on.
type Subject struct {
	Driver   provider.Driver
	WrongKey provider.Driver // the same interface with a credential that it does not know
	Zone     dnsname.Name    // does not exist there yet
}

// Run makes every check as a subtest.
func Run(t *testing.T, s Subject) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	r := &run{t: t, ctx: ctx, Subject: s}
	for _, c := range []struct {
		name  string
		check func(*testing.T)
	}{
		{"a wrong credential is unauthorised, and the error keeps it to itself", r.wrongKey},
		{"a zone that is not there is not found", r.missing},
		{"a new zone gets nameservers and can be found again", r.create},
		{"a zone cannot be made twice", r.createTwice},
		{"what the driver says it can do makes sense", r.describe},
		{"a new zone reads as empty but for what is the provider's", r.empty},
		{"records of every kind come back as they were put", r.everyKind},
		{"sets are changed, and the rest stays", r.changeSome},
		{"a CNAME takes the place of addresses, and gives it back", r.swap},
		{"sets are removed, and the rest stays", r.removeSome},
		{"putting what is there already changes nothing", r.repeat},
		{"a large zone is read to its end", r.pages},
		{"an unchanged zone is told by its mark, a changed one is not", r.marks},
		{"a batch made from an older read is refused where marks are kept", r.staleMark},
		{"records that collide are refused, and nothing of them is done", r.collide},
		{"a call that is broken off returns at once", r.cancelled},
		{"a removed zone is gone", r.remove},
	} {
		t.Run(c.name, c.check)
	}
}

type run struct {
	t   *testing.T
	ctx context.Context
	Subject
	zone provider.Zone
	caps change.Caps
}

func (r *run) name(label string) dnsname.Name {
	n, err := dnsname.ParseRelative(label, r.Zone)
	if err != nil {
		panic(err)
	}
	return n
}

func (r *run) set(label string, t record.Type, ttl uint32, data ...record.Data) record.Set {
	return record.NewSet(r.name(label), t, ttl, data...)
}

// read gives the records that are ours to write.
func (r *run) read(t *testing.T) (record.Contents, string) {
	t.Helper()
	live, mark, err := provider.ReadAll(r.ctx, r.Driver, r.zone.Ref)
	require.NoError(t, err)
	return live.Filter(func(k record.Key) bool { return !r.caps.Owned(r.Zone, k) }), mark
}

// put makes the given sets what they are to be, by as many batches as it takes; a set without data removes.
func (r *run) put(t *testing.T, removed []record.Key, sets ...record.Set) {
	t.Helper()
	live, _ := r.read(t)
	var list change.List
	for _, key := range removed {
		list = append(list, change.Step{Before: live.Get(key)})
	}
	for _, s := range sets {
		list = append(list, change.Step{Before: live.Get(s.Key()), After: s})
	}
	for _, b := range r.caps.Pack(list, live) {
		_, b.Mark = r.read(t)
		receipt, err := r.Driver.Apply(r.ctx, r.zone.Ref, b)
		require.NoError(t, err)
		for !receipt.Done {
			receipt, err = r.Driver.Poll(r.ctx, receipt)
			require.NoError(t, err)
		}
	}
	after, _ := r.read(t)
	assert.Equal(t, list.Apply(live).Records(), after.Records())
}

func (r *run) wrongKey(t *testing.T) {
	_, err := r.WrongKey.Zones(r.ctx, "")
	require.Error(t, err)
	assert.Equal(t, outcall.Unauthorised, outcall.KindOf(err))
	assert.Equal(t, outcall.NotDone, outcall.OutcomeOf(err))
	assert.NotContains(t, err.Error(), "wrong-key")
}

func (r *run) missing(t *testing.T) {
	_, found, err := provider.FindZone(r.ctx, r.Driver, r.Zone)
	require.NoError(t, err)
	require.False(t, found, "the scratch zone is there already")
	_, err = r.Driver.Read(r.ctx, provider.ZoneRef{ID: "nowhere.test.", Name: r.Zone}, provider.ReadFrom{})
	assert.Equal(t, outcall.NotFound, outcall.KindOf(err))
}

func (r *run) create(t *testing.T) {
	made, err := r.Driver.Create(r.ctx, r.Zone)
	require.NoError(t, err)
	assert.Equal(t, r.Zone, made.Ref.Name)
	assert.NotEmpty(t, made.Ref.ID)
	assert.GreaterOrEqual(t, len(made.Nameservers), 2)
	found, there, err := provider.FindZone(r.ctx, r.Driver, r.Zone)
	require.NoError(t, err)
	require.True(t, there)
	assert.Equal(t, made, found)
	r.zone = made
}

func (r *run) createTwice(t *testing.T) {
	_, err := r.Driver.Create(r.ctx, r.Zone)
	assert.Equal(t, outcall.Conflict, outcall.KindOf(err))
	assert.Equal(t, outcall.NotDone, outcall.OutcomeOf(err))
}

func (r *run) describe(t *testing.T) {
	caps, err := r.Driver.Describe(r.ctx, r.zone.Ref)
	require.NoError(t, err)
	assert.NotEqual(t, 1, caps.BatchSize, "a CNAME could not be swapped in one request")
	r.caps = caps
}

func (r *run) empty(t *testing.T) {
	live, _ := r.read(t)
	assert.Empty(t, live.Records())
}

func (r *run) everyKind(t *testing.T) {
	r.put(t, nil,
		r.set("@", record.A, 300, "192.0.2.1", "192.0.2.2"),
		r.set("www", record.CNAME, 3600, record.Data(r.Zone.String())),
		r.set("v6", record.AAAA, 300, "2001:db8::1"),
		r.set("@", record.MX, 3600, "10 mx1.post.example.", "20 mx2.post.example."),
		r.set("@", record.TXT, 3600, `"v=spf1 mx -all"`, `"quotes \" and \\ and ;"`),
		r.set("key._domainkey", record.TXT, 600, `"v=DKIM1; p=AAAA" "BBBB"`),
		r.set("@", record.CAA, 3600, `0 issue "ca.example"`),
		r.set("_sip._tcp", record.SRV, 3600, "1 2 5060 v6."+record.Data(r.Zone.String())),
		r.set("*.pier", record.A, 60, "192.0.2.9"),
		r.set("sub", record.NS, 3600, "ns1.elsewhere.example.", "ns2.elsewhere.example."),
	)
}

func (r *run) changeSome(t *testing.T) {
	r.put(t, nil, r.set("@", record.A, 120, "192.0.2.3"), r.set("new", record.A, 120, "192.0.2.4"))
}

func (r *run) swap(t *testing.T) {
	address, alias := r.set("swap", record.A, 60, "192.0.2.5"), r.set("swap", record.CNAME, 60, "elsewhere.example.")
	r.put(t, nil, address)
	r.put(t, []record.Key{address.Key()}, alias)
	r.put(t, []record.Key{alias.Key()}, address)
}

func (r *run) removeSome(t *testing.T) {
	r.put(t, []record.Key{{Name: r.name("new"), Type: record.A}, {Name: r.name("*.pier"), Type: record.A}})
}

func (r *run) repeat(t *testing.T) {
	live, _ := r.read(t)
	r.put(t, nil, live.Get(record.Key{Name: r.Zone, Type: record.MX}))
}

func (r *run) pages(t *testing.T) {
	var many []record.Set
	for i := range 230 {
		many = append(many, r.set(fmt.Sprintf("gauge-%03d", i), record.A, 300, record.Data(fmt.Sprintf("198.51.100.%d", i))))
	}
	r.put(t, nil, many...)
}

func (r *run) marks(t *testing.T) {
	_, mark := r.read(t)
	if !r.caps.Marks {
		assert.Empty(t, mark, "a mark is given that Caps does not tell of")
		return
	}
	page, err := r.Driver.Read(r.ctx, r.zone.Ref, provider.ReadFrom{Mark: mark})
	require.NoError(t, err)
	assert.True(t, page.Unchanged)
	r.put(t, nil, r.set("marked", record.A, 300, "192.0.2.1"))
	page, err = r.Driver.Read(r.ctx, r.zone.Ref, provider.ReadFrom{Mark: mark})
	require.NoError(t, err)
	assert.False(t, page.Unchanged)
}

func (r *run) staleMark(t *testing.T) {
	live, mark := r.read(t)
	if !r.caps.Marks {
		return
	}
	r.put(t, nil, r.set("meanwhile", record.A, 300, "192.0.2.1"))
	list := change.List{{After: r.set("late", record.A, 300, "192.0.2.2")}}
	batch := r.caps.Pack(list, live)[0]
	batch.Mark = mark
	_, err := r.Driver.Apply(r.ctx, r.zone.Ref, batch)
	assert.Equal(t, outcall.Conflict, outcall.KindOf(err))
	assert.Equal(t, outcall.NotDone, outcall.OutcomeOf(err))
	after, _ := r.read(t)
	assert.False(t, after.Get(record.Key{Name: r.name("meanwhile"), Type: record.A}).IsZero(), "somebody else's change was lost")
}

func (r *run) collide(t *testing.T) {
	live, mark := r.read(t)
	list := change.List{{After: r.set("fine", record.A, 300, "192.0.2.1")}, {After: r.set("v6", record.CNAME, 300, "x.example.")}}
	batch := r.caps.Pack(list, live)[0]
	batch.Mark = mark
	_, err := r.Driver.Apply(r.ctx, r.zone.Ref, batch)
	assert.Equal(t, outcall.Refused, outcall.KindOf(err))
	after, _ := r.read(t)
	if r.caps.Atomic {
		assert.Equal(t, live.Records(), after.Records())
	}
}

func (r *run) cancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(r.ctx)
	cancel()
	start := time.Now()
	_, err := r.Driver.Zones(ctx, "")
	assert.Error(t, err)
	assert.Equal(t, outcall.NotSent, outcall.OutcomeOf(err))
	assert.Less(t, time.Since(start), time.Second)
}

func (r *run) remove(t *testing.T) {
	require.NoError(t, r.Driver.Remove(r.ctx, r.zone.Ref))
	_, there, err := provider.FindZone(r.ctx, r.Driver, r.Zone)
	require.NoError(t, err)
	assert.False(t, there)
	assert.Equal(t, outcall.NotFound, outcall.KindOf(r.Driver.Remove(r.ctx, r.zone.Ref)))
}
