package delegation

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What TTLs return covers every cache that took any of the values when it was seen: none holds one for longer.
func TestTTLsCoverEveryCache(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var kept TTLs
		var expires time.Time
		now := start
		for range rapid.IntRange(1, 30).Draw(t, "sweeps") {
			now = now.Add(time.Duration(rapid.IntRange(1, 4000).Draw(t, "pause")) * time.Second)
			ttl := uint32(rapid.SampledFrom([]int{60, 300, 900, 3600, 7200}).Draw(t, "ttl"))
			kept = kept.Seen(ttl, now)
			expires = later(expires, now.Add(seconds(ttl)))
			bound := now.Add(seconds(kept.At(now)))
			if bound.Before(expires) {
				t.Fatalf("at %s: %v gives %s, and a cache holds it until %s", now, kept, bound, expires)
			}
		}
	})
}

func TestTTLsForget(t *testing.T) {
	kept := TTLs{}.Seen(3600, start).Seen(300, start.Add(time.Minute))
	assert.EqualValues(t, 3600, kept.At(start.Add(time.Minute)))
	assert.EqualValues(t, 300, kept.Seen(300, start.Add(time.Hour)).At(start.Add(time.Hour)), "an hour has run out")
	assert.EqualValues(t, 7200, TTLs{{TTL: 60, At: start}}.with(TTLs{{TTL: 7200, At: start}}).At(start))
	var old State
	require.NoError(t, json.Unmarshal([]byte(`{"p":900,"c":0}`), &old), "as it was once kept")
	assert.EqualValues(t, 900, old.P.At(start))
	assert.Zero(t, old.C.At(start))
	assert.EqualValues(t, 900, old.P.Seen(60, start).At(start), "it counts as seen now")
}
