// Package conformtest makes the conformance run of drivers within tests.
package conformtest

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"beacon/checklist"
	"beacon/provider/conform"
)

// Passes makes the run and wants every check to pass or not to apply, at least atLeast of them to pass.
func Passes(t *testing.T, s conform.Subject, atLeast int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	passed := 0
	for _, r := range conform.Run(ctx, s, nil) {
		assert.NotEqual(t, checklist.Failed, r.Outcome, "%s: %s", r.Check, r.Detail)
		if r.Outcome == checklist.Passed {
			passed++
		}
	}
	assert.GreaterOrEqual(t, passed, atLeast, "checks that passed")
}
