package checklist

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/outcall"
)

func TestRun(t *testing.T) {
	cleared := false
	list := []Check{
		{Name: "fine", Do: func() error { return nil }},
		{Name: "odd", Do: func() error { return errors.New("it differs") }},
		{Name: "other", Do: func() error { return NotApplicable("no such thing") }},
		{Name: "base", Do: func() error { return errors.New("no zone") }, Needed: true},
		{Name: "behind it", Do: func() error { t.Error("it was tried"); return nil }, Needed: true},
		{Name: "cleared", Do: func() error { cleared = true; return nil }, Last: true},
	}
	seen := 0
	all := Run(list, func(_ Result, of int) {
		seen++
		assert.Equal(t, 6, of)
	})
	var outcomes []Outcome
	for _, r := range all {
		outcomes = append(outcomes, r.Outcome)
		assert.Equal(t, r.Check == "base", r.Cause, r.Check)
	}
	assert.Equal(t, []Outcome{Passed, Failed, Skipped, Failed, Skipped, Passed}, outcomes)
	assert.Equal(t, 6, seen)
	assert.Equal(t, 2, Failures(all), "what could not be tried is no failure of its own")
	assert.Equal(t, "not tried, since this failed: base", all[4].Detail)
	assert.True(t, cleared)
}

func TestWantKind(t *testing.T) {
	assert.NoError(t, WantKind(&outcall.Error{Kind: outcall.Conflict}, outcall.Conflict))
	assert.ErrorContains(t, WantKind(&outcall.Error{Kind: outcall.Refused}, outcall.Conflict), "should have been conflict")
	assert.ErrorContains(t, WantKind(nil, outcall.Conflict), "it went well")
}
