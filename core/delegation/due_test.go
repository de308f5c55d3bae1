package delegation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestDue(t *testing.T) {
	for _, c := range []struct {
		name    string
		verdict Verdict
		stood   time.Duration
		settles time.Duration // 0 for none
		due     time.Duration
	}{
		{"settled", Settled, time.Hour, 0, time.Hour},
		{"settled, and a moment is ahead", Settled, time.Hour, 20 * time.Minute, 20 * time.Minute},
		{"settling since just now", Settling, 0, 2 * time.Hour, time.Minute},
		{"settling for an hour", Settling, time.Hour, 2 * time.Hour, 6 * time.Minute},
		{"settling for long", Settling, 40 * time.Hour, 2 * time.Hour, 30 * time.Minute},
		{"settling for long, almost over", Settling, 40 * time.Hour, 5 * time.Minute, 5 * time.Minute},
		{"settling, almost over", Settling, time.Hour, 30 * time.Second, 30 * time.Second},
		{"settling, the moment is past", Settling, time.Hour, -time.Second, 6 * time.Minute},
		{"wrong just now", NeedsAction, 0, 0, time.Minute},
		{"wrong for an hour", NeedsAction, time.Hour, 0, 6 * time.Minute},
		{"wrong for weeks", NeedsAction, 500 * time.Hour, 0, time.Hour},
		{"undelegated for an hour", Undelegated, time.Hour, 0, 6 * time.Minute},
		{"a check that fails for an hour", Unknown, time.Hour, 0, 6 * time.Minute},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := Report{Verdict: c.verdict, CheckedAt: start}
			if c.settles != 0 {
				by := start.Add(c.settles)
				r.SettlesBy = &by
			}
			assert.Equal(t, start.Add(c.due), r.Due(start.Add(-c.stood), time.Minute, time.Hour))
		})
	}
}
