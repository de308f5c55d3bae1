package jobs

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"beacon/store"
)

// Age is a time for which something is kept, real time. In settings it is written in days (90d) or as Go writes durations (36h).
type Age time.Duration

const day = 24 * time.Hour

// UnmarshalYAML reads an age.
func (a *Age) UnmarshalYAML(node *yaml.Node) error {
	if days, ok := strings.CutSuffix(node.Value, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 && n <= 100_000 {
			*a = Age(time.Duration(n) * day)
			return nil
		}
	}
	d, err := time.ParseDuration(node.Value)
	if err != nil || d < 0 {
		return fmt.Errorf("line %d: %q is no age; write days, such as 90d, or hours, such as 36h; 0s to keep for ever", node.Line, node.Value)
	}
	*a = Age(d)
	return nil
}

// RetentionSettings say for how long what grows is kept. Zero keeps it for ever.
type RetentionSettings struct {
	Logbook  Age `yaml:"logbook"`
	Requests Age `yaml:"requests"` // lines of the logbook about single requests to providers and registrars
	Syncs    Age `yaml:"syncs"`    // that have ended, with their requests; the last of each placement stays
	Acts     Age `yaml:"acts"`     // that have ended, with their requests; handovers, but for the last of each domain
	Jobs     Age `yaml:"jobs"`     // that are done
	Tokens   Age `yaml:"tokens"`   // that have expired
	Evidence Age `yaml:"evidence"` // of checks; the last of each domain stays
}

// DefaultRetention is what settings begin with.
func DefaultRetention() RetentionSettings {
	return RetentionSettings{Logbook: Age(730 * day), Requests: Age(14 * day), Syncs: Age(90 * day), Acts: Age(730 * day), Jobs: Age(7 * day), Tokens: Age(7 * day), Evidence: Age(400 * day)}
}

func (s RetentionSettings) ages() map[store.Kept]Age {
	return map[store.Kept]Age{store.KeptLogbook: s.Logbook, store.KeptRequests: s.Requests, store.KeptSyncs: s.Syncs, store.KeptActs: s.Acts,
		store.KeptJobs: s.Jobs, store.KeptTokens: s.Tokens, store.KeptEvidence: s.Evidence, store.KeptKeys: Age(keysKept), store.KeptUpdates: Age(updatesKept), store.KeptVerified: s.Acts, store.KeptMoves: s.Acts, store.KeptGathered: s.Acts}
}

// keysKept is for how long a request that named itself is known, real time.
const keysKept = 24 * time.Hour

// updatesKept is for how long it is known what an update was answered, real time: more than twice as long as its signature is valid.
const updatesKept = 30 * time.Minute

// How often rows are pruned, how many in one transaction, and for how long at a time, real time.
const (
	pruneEvery = 10 * time.Minute
	mostPruned = 1000
	pruneTurn  = 10 * time.Second
)

// Prune returns the handler that deletes what is older than the settings say, a little at a time.
func (q *Queue) Prune(s RetentionSettings) Handler {
	return func(ctx context.Context, job store.Job) error {
		end := time.Now().Add(pruneTurn)
		for kind, age := range s.ages() {
			if age == 0 {
				continue
			}
			for n := int64(mostPruned); n == mostPruned; {
				err := q.store.Tx(ctx, func(tx *store.Tx) (err error) {
					if err := tx.Hold(job); err != nil {
						return err
					}
					n, err = tx.Prune(kind, q.store.Now().Add(-time.Duration(age)), mostPruned)
					return err
				})
				if err != nil {
					return err
				}
				if time.Now().After(end) {
					return Later{At: q.store.Now().Add(time.Second), Worked: true}
				}
			}
		}
		return Later{At: q.store.Now().Add(pruneEvery), Worked: true}
	}
}
