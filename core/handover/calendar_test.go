package handover

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// When a window opens next: at once within it, else at its next beginning, over midnight, weeks and the change of the clocks; and freezes come first.
func TestCalendar(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	clock := func(text string) time.Time {
		at, err := time.ParseInLocation("2006-01-02 15:04", text, berlin)
		require.NoError(t, err)
		return at
	}
	winter := []Freeze{{From: clock("2030-12-20 00:00"), To: clock("2031-01-07 00:00"), Reason: "winter"}}
	for name, c := range map[string]struct {
		window, now, opens, why string
		freezes                 []Freeze
	}{
		"always":                      {"", "2030-03-05 12:00", "2030-03-05 12:00", "", nil},
		"within":                      {"Tue 02:00-04:00", "2030-03-05 02:30", "2030-03-05 02:30", "", nil},
		"its end is outside":          {"Tue 02:00-04:00", "2030-03-05 04:00", "2030-03-12 02:00", "its window opens", nil},
		"later today":                 {"02:00-04:00", "2030-03-05 01:59", "2030-03-05 02:00", "its window opens", nil},
		"another day":                 {"Mon,Thu 02:00-04:00", "2030-03-05 12:00", "2030-03-07 02:00", "its window opens", nil},
		"over midnight, after it":     {"Sat 22:00-06:00", "2030-03-10 05:00", "2030-03-10 05:00", "", nil},
		"over midnight, too late":     {"Sat 22:00-06:00", "2030-03-10 06:00", "2030-03-16 22:00", "its window opens", nil},
		"the hour that is skipped":    {"Sun 02:00-04:00", "2030-03-31 00:30", "2030-03-31 03:00", "its window opens", nil},
		"frozen":                      {"", "2030-12-24 12:00", "2031-01-07 00:00", "the freeze ends (winter)", winter},
		"frozen, and then the window": {"Tue 02:00-04:00", "2030-12-24 12:00", "2031-01-07 02:00", "its window opens", winter},
		"the window lies in a freeze": {"Fri 02:00-04:00", "2030-12-18 12:00", "2031-01-10 02:00", "its window opens", winter},
	} {
		w, err := ParseWindow(c.window, berlin)
		require.NoError(t, err, name)
		at, why := Calendar{w, c.freezes}.Opens(clock(c.now))
		assert.Equal(t, clock(c.opens), at, name)
		assert.Equal(t, c.why, why, name)
	}
	for _, text := range []string{"Tuesday", "Tue", "Tue 2-4", "Tue 02:00", "Tue,Tue 02:00-04:00", "02:00-02:00", "Tue 02:00-25:00"} {
		_, err := ParseWindow(text, nil)
		assert.ErrorContains(t, err, "Tue 02:00-04:00", text)
	}
	kept, wait := Calendar{Freezes: winter}.Hold([]Do{DoSync, DoDelegate, DoTellOld}, clock("2030-12-24 12:00"))
	assert.Equal(t, []Do{DoSync, DoTellOld}, kept)
	assert.Equal(t, []Wait{{For: "the freeze ends (winter)", Until: winter[0].To}}, wait)
}

// A calendar never opens in the past, what it opens at is open, and nothing between is.
func TestCalendarLaw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		zone := time.FixedZone("", rapid.IntRange(-12, 14).Draw(t, "zone")*3600)
		w := Window{Days: []time.Weekday{time.Weekday(rapid.IntRange(0, 6).Draw(t, "day"))}, From: rapid.IntRange(0, 1439).Draw(t, "from"), To: rapid.IntRange(0, 1439).Draw(t, "to"), Zone: zone, set: true}
		if w.From == w.To {
			w.To = (w.From + 1) % 1440
		}
		now := simStart.Add(time.Duration(rapid.IntRange(0, 20*1440).Draw(t, "now")) * time.Minute)
		k := Calendar{Window: w}
		at, _ := k.Opens(now)
		assert.False(t, at.Before(now))
		assert.Less(t, at.Sub(now), 8*24*time.Hour)
		again, _ := k.Opens(at)
		assert.Equal(t, at, again, "it is open then")
		if at.After(now) {
			before, _ := k.Opens(at.Add(-time.Minute))
			assert.Equal(t, at, before, "and not before")
		}
	})
}

// Of a batch so many are under way at a time, and none begins while one is in trouble; what is under way goes on.
func TestBatch(t *testing.T) {
	acts := []Do{DoSync, DoDelegate}
	calm, busy, broken := Mate{Domain: "a.example"}, Mate{Domain: "b.example", UnderWay: true}, Mate{Domain: "c.example", Trouble: true}
	for name, c := range map[string]struct {
		b    Batch
		held string
	}{
		"none":               {Batch{Mates: []Mate{broken}}, ""},
		"room":               {Batch{Name: "spring", AtOnce: 2, Mates: []Mate{calm, busy}}, ""},
		"full":               {Batch{Name: "spring", AtOnce: 1, Mates: []Mate{calm, busy}}, "another of the batch spring"},
		"no limit":           {Batch{Name: "spring", Mates: []Mate{busy, busy}}, ""},
		"trouble":            {Batch{Name: "spring", Mates: []Mate{broken}}, "c.example"},
		"under way, trouble": {Batch{Name: "spring", AtOnce: 1, UnderWay: true, Mates: []Mate{broken, busy}}, ""},
	} {
		kept, wait := c.b.Hold(acts)
		if c.held == "" {
			assert.Equal(t, acts, kept, name)
			assert.Empty(t, wait, name)
			continue
		}
		assert.Equal(t, []Do{DoSync}, kept, name)
		if assert.Len(t, wait, 1, name) {
			assert.Contains(t, wait[0].For, c.held, name)
		}
	}
}
