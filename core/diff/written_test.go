package diff

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// cams are sets of one name each, few, so that they meet; some are none.
var cams = rapid.Custom(func(t *rapid.T) record.Set {
	data := rapid.SampledFrom([]record.Data{"", "192.0.2.1", "192.0.2.2", "192.0.2.3"}).Draw(t, "data")
	if data == "" {
		return record.Set{}
	}
	return record.NewSet(dnsname.MustParse("cam.saltmarsh-ferries.example"), record.A, rapid.SampledFrom([]uint32{60, 300}).Draw(t, "ttl"), data)
})

// What became of a step that broke off is one of three: done, half way, or not done; and only what is not done may be without an answer.
func TestFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		step := change.Step{Before: cams.Draw(t, "before"), After: cams.Draw(t, "after")}
		if step.Before.Equal(step.After) {
			return
		}
		live := cams.Draw(t, "live")
		done, halves, broken := Found(change.List{step}, record.ContentsOf(notZero(live)...))
		switch {
		case live.Equal(step.After):
			assert.Len(t, done, 1)
		case live.Equal(step.Before):
			assert.Empty(t, done)
			assert.Empty(t, halves)
			assert.Len(t, broken, 1)
		}
		assert.Equal(t, 1, len(done)+len(broken))
		assert.LessOrEqual(t, len(halves), len(broken))
	})
}

// What is placed after steps is what they leave, and is not known as read; all else stays as it was.
func TestPlacedBy(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		before, after, gauge := cams.Draw(t, "before"), cams.Draw(t, "after"), record.NewSet(dnsname.MustParse("gauge.saltmarsh-ferries.example"), record.A, 60, "192.0.2.9")
		placed := []Placed{{Sent: gauge, Read: gauge}}
		if !before.IsZero() {
			placed = append(placed, Placed{Sent: before, Read: before})
		}
		steps := change.List{{Before: before, After: after}}
		if before.IsZero() && after.IsZero() {
			steps = nil
		}
		now := PlacedBy(placed, steps)
		assert.True(t, Returned(now).Equal(record.ContentsOf(append(notZero(after), gauge)...)), "%v", now)
		read, asSent := Forms(now, Returned(now))
		assert.True(t, asSent)
		assert.Len(t, read, len(notZero(after)))
		assert.Empty(t, Unshown(steps, Returned(now), Returned(now)))
		assert.Empty(t, Unsure(steps, now, Returned(now)))
	})
}

// A provider that writes a set in its own way is doubted once, and so is one that still has what was removed.
func TestUnsure(t *testing.T) {
	name := dnsname.MustParse("cam.saltmarsh-ferries.example")
	was, sent, other := record.NewSet(name, record.A, 60, "192.0.2.1"), record.NewSet(name, record.A, 60, "192.0.2.2"), record.NewSet(name, record.A, 300, "192.0.2.2")
	steps := change.List{{Before: was, After: sent}}
	doubts := Unsure(steps, PlacedBy(nil, steps), record.ContentsOf(other))
	assert.Equal(t, []Doubt{{Key: sent.Key(), Known: sent, Read: other, Form: true, Was: was}}, doubts)
	assert.Equal(t, []string{"cam.saltmarsh-ferries.example. A"}, Unshown(steps, record.ContentsOf(sent), record.ContentsOf(was)), "as before")
	steps = change.List{{Before: was}}
	assert.Equal(t, []Doubt{{Key: was.Key(), Read: was}}, Unsure(steps, nil, record.ContentsOf(was)))
	assert.Len(t, Unshown(steps, record.Contents{}, record.ContentsOf(was)), 1)
}

func notZero(s record.Set) []record.Set {
	if s.IsZero() {
		return nil
	}
	return []record.Set{s}
}
