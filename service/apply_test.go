package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/wire"
)

func files(records string) []definition.File {
	return []definition.File{{Name: "ferries.beacon.yaml", Text: "zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n" + records}}
}

// Files are accepted and their syncs started in one transaction; what is in sync already is left alone, and leaves no trace.
func TestApplySyncsWhatChanged(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	apply := func(records string, dryRun bool) wire.Applied {
		done, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: files(records), Manage: true, Sync: true, DryRun: dryRun})
		require.NoError(t, err)
		require.Len(t, done, 1)
		return done[0]
	}
	const first, second = "      @ A 192.0.2.1\n      www A 192.0.2.2\n", "      @ A 192.0.2.1\n"
	done := apply(first, false)
	assert.True(t, done.Changed)
	require.Len(t, done.Syncs, 1)
	require.Equal(t, wire.SyncDone, h.ended(done.Syncs[0].ID).State)

	before, err := h.Logbook.Entries(ctx, access.Service, "", false, 0, 1000)
	require.NoError(t, err)
	done = apply(first, false)
	assert.False(t, done.Changed)
	assert.Empty(t, done.Syncs)
	assert.EqualValues(t, 1, done.Revision.Number)
	after, err := h.Logbook.Entries(ctx, access.Service, "", false, 0, 1000)
	require.NoError(t, err)
	assert.Len(t, after, len(before), "a run that changes nothing leaves no line")

	// What a guard would block is known before anything is accepted.
	planned := apply(second, true)
	require.NotEmpty(t, planned.Guards)
	assert.Equal(t, diff.GuardNamesStop, planned.Guards[0].Code)
	assert.Empty(t, planned.Syncs)
	done = apply(second, false)
	require.Equal(t, wire.SyncBlocked, h.ended(done.Syncs[0].ID).State)

	// The same files again have it written, once it is allowed.
	again, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: files(second), Manage: true, Sync: true, Allow: []string{diff.GuardNamesStop}})
	require.NoError(t, err)
	assert.False(t, again[0].Changed)
	require.Len(t, again[0].Syncs, 1)
	require.Equal(t, wire.SyncDone, h.ended(again[0].Syncs[0].ID).State)

	// A sync that runs is not interleaved: what was accepted waits for it.
	h.fault(`{"site":"4.1","delay_ms":300}`)
	running := apply(first, false)
	require.Len(t, running.Syncs, 1)
	waiting := apply("      @ A 192.0.2.9\n", false)
	assert.Empty(t, waiting.Syncs)
	require.Len(t, waiting.Waiting, 1)
	assert.Contains(t, waiting.Waiting[0].Problem, "--follow")
	h.ended(running.Syncs[0].ID)
}
