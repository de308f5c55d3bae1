package provider_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/looking"
	"beacon/outcall"
	"beacon/provider"
)

// scripted is a driver whose calls fail as a script says, and that counts them.
type scripted struct {
	provider.Driver
	script []error
	calls  int
	pages  []provider.Page
}

func (s *scripted) next() error {
	s.calls++
	if len(s.script) == 0 {
		return nil
	}
	err := s.script[0]
	s.script = s.script[1:]
	return err
}

func (s *scripted) Read(_ context.Context, _ provider.ZoneRef, from provider.ReadFrom) (provider.Page, error) {
	if err := s.next(); err != nil {
		return provider.Page{}, err
	}
	if len(s.pages) == 0 {
		return provider.Page{Mark: from.Mark}, nil
	}
	page := s.pages[0]
	s.pages = s.pages[1:]
	return page, nil
}

func (s *scripted) Apply(context.Context, provider.ZoneRef, change.Batch) (provider.Receipt, error) {
	return provider.Receipt{Done: true}, s.next()
}

func (s *scripted) Zones(_ context.Context, cursor provider.Cursor) (provider.ZonePage, error) {
	name := dnsname.MustParse("a.example")
	if cursor == "2" {
		name = dnsname.MustParse("b.example")
	}
	next := map[provider.Cursor]provider.Cursor{"": "2"}[cursor]
	return provider.ZonePage{Zones: []provider.Zone{{Ref: provider.ZoneRef{ID: string(cursor), Name: name}}}, Next: next}, s.next()
}

// turns is a pace that lets everybody through and notes what it is told.
type turns struct {
	waits int
	slow  time.Duration
}

func (p *turns) Wait(ctx context.Context) error { p.waits++; return ctx.Err() }
func (p *turns) Slow(d time.Duration)           { p.slow = max(p.slow, d) }

func failing(kind outcall.Kind, after time.Duration) error {
	return &outcall.Error{Kind: kind, Outcome: outcall.NotDone, RetryAfter: after}
}

// Reads are made again where that may help, and are not where it cannot; writes are made once, whatever comes of it.
func TestPaced(t *testing.T) {
	limited, down, refused := failing(outcall.Limited, 60*time.Millisecond), failing(outcall.Unavailable, 0), failing(outcall.Refused, 0)
	for _, c := range []struct {
		name   string
		script []error
		write  bool
		calls  int
		kind   outcall.Kind
	}{
		{"it goes well", nil, false, 1, ""},
		{"it goes well after a while", []error{limited, down}, false, 3, ""},
		{"it stays down", []error{down, down, down, down, down, down}, false, 5, outcall.Unavailable},
		{"it is refused", []error{refused, nil}, false, 1, outcall.Refused},
		{"a write is made once", []error{down, nil}, true, 1, outcall.Unavailable},
		{"so is one that was limited", []error{limited, nil}, true, 1, outcall.Limited},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, pace := &scripted{script: c.script}, &turns{}
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			start := time.Now()
			var err error
			if c.write {
				_, err = provider.Paced(d, pace).Apply(ctx, provider.ZoneRef{}, change.Batch{})
			} else {
				_, err = provider.Paced(d, pace).Read(ctx, provider.ZoneRef{}, provider.ReadFrom{})
			}
			assert.Equal(t, c.kind, outcall.KindOf(err))
			assert.Equal(t, c.calls, d.calls)
			assert.Equal(t, c.calls, pace.waits, "every request waits for its turn")
			for _, e := range c.script[:min(len(c.script), c.calls)] {
				if e == limited {
					assert.GreaterOrEqual(t, pace.slow, 60*time.Millisecond, "others are told to wait, too")
					if !c.write {
						assert.GreaterOrEqual(t, time.Since(start), 60*time.Millisecond, "as long as the other side asked")
					}
				}
			}
		})
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	d := &scripted{script: []error{failing(outcall.Limited, time.Hour)}}
	start := time.Now()
	_, err := provider.Paced(d, &turns{}).Read(ctx, provider.ZoneRef{}, provider.ReadFrom{})
	assert.Equal(t, outcall.Limited, outcall.KindOf(err))
	assert.Less(t, time.Since(start), time.Second, "nobody waits longer than there is time")
}

func TestFindZone(t *testing.T) {
	d := provider.Paced(&scripted{}, &turns{})
	z, there, err := provider.FindZone(context.Background(), d, dnsname.MustParse("b.example"))
	require.NoError(t, err)
	assert.True(t, there)
	assert.Equal(t, "2", z.Ref.ID)
	_, there, err = provider.FindZone(context.Background(), d, dnsname.MustParse("c.example"))
	require.NoError(t, err)
	assert.False(t, there)
}

// A zone that changes while its pages are read is read again from the start.
func TestReadAllOfAZoneThatChanges(t *testing.T) {
	name := dnsname.MustParse("a.example")
	row := func(data record.Data) []record.Record {
		return []record.Record{{Name: name, TTL: 1, Type: record.A, Data: data}}
	}
	key := record.Key{Name: name, Type: record.A}
	d := &scripted{pages: []provider.Page{{Records: row("192.0.2.1"), Mark: "1", Next: "x"}, {Records: row("192.0.2.9"), Mark: "2"},
		{Records: row("192.0.2.2"), Mark: "2", Next: "x", Details: change.Details{key: {Refs: map[record.Data]string{"192.0.2.2": "r2"}}}},
		{Records: row("192.0.2.3"), Mark: "2", Details: change.Details{key: {Refs: map[record.Data]string{"192.0.2.3": "r3"}}}}}}
	state, err := provider.ReadAll(context.Background(), d, provider.ZoneRef{}, provider.State{})
	require.NoError(t, err)
	assert.Equal(t, 4, d.calls)
	assert.Equal(t, []record.Data{"192.0.2.2", "192.0.2.3"}, state.Contents.Get(key).Data)
	assert.Len(t, state.Details[key].Refs, 2)
	assert.Equal(t, "2", state.Mark)
}

// Under a context that only looks, a driver sends nothing that changes something.
func TestLookingSendsNothing(t *testing.T) {
	ctx := looking.On(context.Background())
	d := provider.Paced(&scripted{}, &turns{})
	_, err := d.Apply(ctx, provider.ZoneRef{}, change.Batch{})
	assert.ErrorIs(t, err, looking.ErrLooking)
	_, err = d.Create(ctx, dnsname.Root, provider.ZoneOptions{})
	assert.ErrorIs(t, err, looking.ErrLooking)
	assert.ErrorIs(t, d.Remove(ctx, provider.ZoneRef{}), looking.ErrLooking)
}
