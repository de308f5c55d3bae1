package acts

import (
	"time"

	"beacon/store"
)

// settlesIn is for how long a change that was made at a registrar counts as one that has begun, though the parents do not serve it yet.
const settlesIn = 48 * time.Hour

// Begun returns the subjects for which an act of a kind has not ended, or was done lately; only subject, where it is not empty. What a person does by
// hand counts only after the time that it may take.
func Begun(tx *store.Tx, kind, subject string, now time.Time, byHand time.Duration) (map[string]bool, error) {
	return tx.BegunActs(kind, subject, now.Add(-settlesIn), now.Add(-byHand))
}
