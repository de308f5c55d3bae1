package profile_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/provider"
)

// weather is what goes wrong in a rain, by chance: answers are lost, requests refused for being too many, the other side breaks, and sessions
// are taken away.
type weather struct {
	chance *rand.Rand
	on     atomic.Bool
	seen   map[string]int
}

func (w *weather) fault(*http.Request) int {
	if !w.on.Load() {
		return 0
	}
	switch n := w.chance.IntN(100); {
	case n < 14:
		w.seen["lost"]++
		return -1
	case n < 18:
		w.seen["429"]++
		return 429
	case n < 22:
		w.seen["503"]++
		return 503
	case n < 26:
		w.seen["401"]++
		return 401
	}
	return 0
}

// A rain of syncs against each interface, with faults, ends right, and nothing is there twice.
func TestRainOnShapes(t *testing.T) {
	syncs := 25
	if os.Getenv("BEACON_SOAK") != "" {
		syncs = 200
	}
	pool := jqtest.Pool(t)
	a := newAuthority(t)
	for _, s := range append(slices.Clone(shapes), shape{name: "avocet", secret: avocetCredential(t, a, a.pem)}) {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			w := &weather{chance: rand.New(rand.NewPCG(7, uint64(len(s.name)))), seen: map[string]int{}}
			b := newBank()
			b.fault = w.fault
			var server *httptest.Server
			if s.serve == nil {
				server = avocet(t, b, a, nil)
			} else {
				server = httptest.NewServer(s.serve(t, b))
				t.Cleanup(server.Close)
			}
			runtime := profile.NewRuntime(pool)
			t.Cleanup(runtime.Close)
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
			defer cancel()
			d := profile.New(example(t, s.name), runtime, hosted(client(server.URL, s.secret)))
			zone, err := d.Create(ctx, dnsname.MustParse("rain.example"), provider.ZoneOptions{})
			require.NoError(t, err)
			provider.AwaitZone(ctx, d, zone.Ref)
			w.on.Store(true)
			desired := record.Contents{}
			few := syncs
			if s.name == "turnstone" && syncs < 200 { // each of its reads is eight requests
				few = 8
			}
			for n := range few {
				desired = rained(w.chance, zone.Ref.Name, desired)
				synced(t, ctx, d, zone.Ref, desired, fmt.Sprintf("sync %d", n))
				require.Empty(t, b.twice("rain.example"), "after sync %d", n)
			}
			w.on.Store(false)
			live, err := provider.ReadAll(ctx, d, zone.Ref, provider.State{})
			require.NoError(t, err)
			assert.True(t, live.Contents.Equal(desired), "it ends right")
			assert.Greater(t, len(w.seen), 2, "faults: %v", w.seen)
			t.Logf("%d syncs, faults %v", syncs, w.seen)
		})
	}
}

// twice returns the records that a zone has more than once.
func (b *bank) twice(zone string) (list []string) {
	b.Lock()
	defer b.Unlock()
	seen := map[string]bool{}
	for _, set := range b.zones[zone].Sets {
		for _, data := range set.Data {
			key := strings.SplitN(set.Host, "#", 2)[0] + " " + set.Type + " " + data
			if seen[key] {
				list = append(list, key)
			}
			seen[key] = true
		}
	}
	return list
}

// rained changes a few sets of what is desired.
func rained(chance *rand.Rand, zone dnsname.Name, c record.Contents) record.Contents {
	for range 1 + chance.IntN(3) {
		name, _ := dnsname.ParseRelative(fmt.Sprintf("h%d", chance.IntN(6)), zone)
		key := record.Key{Name: name, Type: []record.Type{record.A, record.TXT, record.MX}[chance.IntN(3)]}
		if chance.IntN(4) == 0 {
			c = c.Without(key)
			continue
		}
		data := map[record.Type]record.Data{record.A: record.Data(fmt.Sprintf("192.0.2.%d", chance.IntN(250))), record.TXT: record.Data(fmt.Sprintf(`"text %d"`, chance.IntN(1000))),
			record.MX: record.Data(fmt.Sprintf("%d mx%d.post.example.", chance.IntN(50), chance.IntN(3)))}[key.Type]
		list := []record.Data{data}
		if key.Type == record.A && chance.IntN(2) == 0 {
			list = append(list, "198.51.100.7")
		}
		c = c.With(record.NewSet(key.Name, key.Type, 300, list...))
	}
	return c
}

// synced makes a zone what is desired: as a sync does, it looks after each failure, and sends nothing again without that.
func synced(t *testing.T, ctx context.Context, d provider.Driver, zone provider.ZoneRef, desired record.Contents, what string) {
	caps, err := d.Describe(ctx, zone)
	require.NoError(t, err)
	for try := 1; ; try++ {
		require.Less(t, try, 200, what)
		live, err := provider.ReadAll(ctx, d, zone, provider.State{})
		if err != nil {
			require.Contains(t, []outcall.Kind{outcall.Unavailable, outcall.Limited, outcall.Unauthorised}, outcall.KindOf(err), "%s: %v", what, err)
			continue
		}
		var list change.List
		for set := range live.Contents.Sets() {
			if desired.Get(set.Key()).IsZero() {
				list = append(list, change.Step{Before: set})
			}
		}
		for set := range desired.Sets() {
			if before := live.Contents.Get(set.Key()); !before.Equal(set) {
				list = append(list, change.Step{Before: before, After: set})
			}
		}
		if len(list) == 0 {
			return
		}
		batch := caps.Pack(slices.Clone(list), live.Contents)[0]
		batch.Mark, batch.Details = live.Mark, live.Details
		if _, err := d.Apply(ctx, zone, batch); err != nil {
			require.NotEqual(t, outcall.Refused, outcall.KindOf(err), "%s: %v", what, err)
		}
	}
}
