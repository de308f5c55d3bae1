package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	gates "beacon/core/handover"
	"beacon/core/record"
	"beacon/provider"
	"beacon/service"
	"beacon/service/delegate"
	"beacon/wire"
)

// registered is a domain at Plover, registered at Gannet, with its zone at Heron too.
func registered(t *testing.T, records string) house {
	t.Helper()
	h := newHouse(t)
	h.register()
	h.define("heron-main", records+"\n@ TXT \"this zone is new at Plover\"")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	return h
}

// active is the list active at the registrar.
func (h house) active() []dnsname.Name {
	h.t.Helper()
	list, err := h.Accounts.Registrations(ctx, access.Service, "gannet-main")
	require.NoError(h.t, err)
	require.Len(h.t, list, 1)
	return list[0].Active
}

// finished waits until an act has ended.
func (h house) finished(act wire.Act, err error) wire.Act {
	h.t.Helper()
	require.NoError(h.t, err)
	require.Eventually(h.t, func() bool {
		act, err = h.Acts.Act(ctx, access.Service, act.ID)
		require.NoError(h.t, err)
		return act.State.Ended()
	}, 2*time.Minute, 20*time.Millisecond, "%+v", act)
	return act
}

func (h house) delegate(r wire.DelegateRequest) wire.Act {
	h.t.Helper()
	r.Domain = zone
	return h.finished(h.Delegations.Delegate(ctx, access.Service, r))
}

func (h house) retire(r wire.RetireRequest) wire.Act {
	h.t.Helper()
	r.Zone = zone
	return h.finished(h.Delegations.Retire(ctx, access.Service, r))
}

// Between the request of a retirement and its end no sync of the zone begins there; one that waited for its turn ends with the placement.
func TestNoSyncBeginsWhileAZoneIsRemoved(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "curlew-ops"}).State)
	h.stop() // nobody works
	svc, err := service.Open(ctx, h.settings, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	act, err := svc.Delegations.Retire(ctx, access.Service, wire.RetireRequest{Zone: zone, Account: "curlew-ops"})
	require.NoError(t, err)
	_, err = svc.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone, Account: "curlew-ops"})
	assert.ErrorContains(t, err, fmt.Sprintf("beacon act show %d", act.ID))
	list, err := svc.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone, Account: "heron-main"})
	require.NoError(t, err, "it is not removed there")
	svc.Close()
	h.Service = instance(t, h.settings)
	assert.Equal(t, wire.ActDone, h.finished(act, nil).State)
	assert.Equal(t, wire.SyncDone, h.ended(list[0].ID).State)
	assert.Zero(t, h.zonesNamed("curlew"))
}

// A zone is not removed while a sync writes to it: the retirement waits for the sync, and no other begins meanwhile.
func TestRetireExcludesSyncs(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "curlew-ops"}).State)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "heron-main"}).State)
	h.fault(`{"site":"6.1","delay_ms":400,"writes":true}`)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.2")
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone, Account: "curlew-ops"})
	require.NoError(t, err)
	act, err := h.Delegations.Retire(ctx, access.Service, wire.RetireRequest{Zone: zone, Account: "curlew-ops"})
	require.NoError(t, err)
	_, err = h.Delegations.Retire(ctx, access.Service, wire.RetireRequest{Zone: zone, Account: "curlew-ops"})
	assert.ErrorContains(t, err, "is taking", "twice is once")
	act = h.finished(act, nil)
	assert.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Zero(t, h.zonesNamed("curlew"))
	_, err = h.Overview.Sync(ctx, access.Service, list[0].ID)
	assert.ErrorContains(t, err, "not found", "it ended before, and is forgotten with the placement")
	entries, err := h.Logbook.Entries(ctx, access.Service, zone.String(), false, 0, 100)
	require.NoError(t, err)
	var seen []string
	for _, e := range entries {
		seen = append(seen, e.Action)
	}
	assert.Less(t, slices.Index(seen, "zone-removed"), slices.Index(seen, "sync.done"), "newest first: %v", seen)
}

// A client that goes away does not leave a delegation half done.
func TestDelegationOutlivesItsClient(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	before := h.active()
	h.fault(`{"site":"3.1","delay_ms":200,"writes":true}`)
	client, leave := context.WithCancel(ctx)
	act, err := h.Delegations.Delegate(client, access.Service, wire.DelegateRequest{Domain: zone})
	leave()
	act = h.finished(act, err)
	assert.Equal(t, wire.ActDone, act.State, "%s %+v", act.Message, act.Findings)
	assert.NotEqual(t, before, h.active())
	assert.Equal(t, []string{"save", "activate"}, act.Delegated.Steps)
}

// Records that the old nameservers have and the new ones lack are not lost without a word; what is meant can be agreed to.
func TestDelegateComparesAllRecords(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	h.byHand("plover", set(t, "@", record.A, "192.0.2.1"), set(t, "www", record.A, "192.0.2.1"), set(t, "@", record.MX, "10 mail.saltmarsh-ferries.example."), set(t, "mail", record.A, "192.0.2.25"))
	dry, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	require.NoError(t, err)
	assert.Equal(t, []string{"sides-differ"}, codes(dry.Closed))
	assert.Contains(t, strings.Join(dry.Closed[0].Seen, "\n"), "mail.saltmarsh-ferries.example. A: lost; old: 192.0.2.25; new: nothing")
	assert.Contains(t, strings.Join(dry.Closed[0].Seen, "\n"), "saltmarsh-ferries.example. MX: lost")
	blocked := h.delegate(wire.DelegateRequest{})
	assert.Equal(t, wire.ActBlocked, blocked.State)
	assert.Empty(t, blocked.Requests, "the registrar was not asked")
	_, err = h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: zone, Override: []string{"sides-differ"}})
	assert.ErrorContains(t, err, "needs a reason")
	done := h.delegate(wire.DelegateRequest{Agree: dry.Digest})
	assert.Equal(t, wire.ActDone, done.State, done.Message)
}

// The set that was active before is a way back, by itself and by name, though no placement has it.
func TestDelegationIsUndone(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	before := h.active()
	there := h.delegate(wire.DelegateRequest{})
	require.Equal(t, wire.ActDone, there.State, there.Message)
	moved := h.active()
	require.NotEqual(t, before, moved)
	var back []string
	for _, n := range before {
		back = append(back, n.String())
	}
	undone := h.delegate(wire.DelegateRequest{Nameservers: back})
	require.Equal(t, wire.ActDone, undone.State, "%s %v", undone.Message, undone.Findings)
	assert.Equal(t, before, h.active())
	again := h.delegate(wire.DelegateRequest{Undo: true})
	require.Equal(t, wire.ActDone, again.State, again.Message)
	assert.Equal(t, moved, h.active(), "what is undone twice is as it was")
	view, err := h.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, moved, view.Wanted, "what is desired follows the act")
}

// A refusal of the registrar changes nothing of what is desired, and a preview nothing at all.
func TestRefusedDelegationChangesNothing(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	_, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	h.stop() // no check by schedule comes between
	idle, err := service.Open(ctx, h.settings, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	known, err := idle.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	_, err = idle.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	require.NoError(t, err)
	now, err := idle.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, known.CheckedAt, now.CheckedAt, "a preview is no check")
	idle.Close()
	h.Service = instance(t, h.settings)
	h.fault(`{"site":"3.1","status":403,"writes":true}`)
	failed := h.delegate(wire.DelegateRequest{})
	assert.Equal(t, wire.ActFailed, failed.State, failed.Message)
	require.Len(t, failed.Requests, 1)
	assert.Equal(t, wire.ActNotApplied, failed.Requests[0].State)
	now, err = h.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, known.Wanted, now.Wanted)
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, delegation.Settled, report.Verdict, "%v", codes(report.Findings))
}

// A second placement changes nothing of which nameservers a domain should have: a definition says it, or a user.
func TestPlacementIsNotDelegation(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	known, err := h.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, known.Wanted, "being placed is not being delegated to")
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "curlew-ops"}).State)
	now, err := h.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, now.Wanted)
	_, err = h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.ErrorContains(t, err, "placed at 2 providers")
	h.define("heron-main, curlew-ops]\n    delegate_to: heron-main\n    kits: [", "@ A 192.0.2.1\nwww A 192.0.2.1")
	now, err = h.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	view, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.ElementsMatch(t, view.Placements[0].Nameservers, now.Wanted)
	assert.NotEqual(t, now.Wanted, h.active(), "applying a definition moves nothing")
}

// A zone at a provider that puts records of its own into new zones is in sync after one run.
func TestPrefilledZoneInOneRun(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("plover-old", "@ A 192.0.2.1\nwww CNAME @")
	shown, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	done := h.sync(wire.SyncRequest{Expect: shown[0].Digest})
	assert.Equal(t, wire.SyncDone, done.State, done.Message)
	requests, err := h.Overview.Requests(ctx, access.Service, done.ID)
	require.NoError(t, err)
	assert.Equal(t, "zone-made", requests[0].Kind)
}

// A preview knows a zone that is at the provider already, whoever made it.
func TestPreviewOfAZoneThatIsThere(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.direct("heron").Create(ctx, zone, provider.ZoneOptions{})
	require.NoError(t, err)
	h.byHand("heron", set(t, "cam", record.A, "192.0.2.9"))
	h.define("heron-main", "@ A 192.0.2.1")
	shown, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.False(t, shown[0].NewZone)
	assert.Len(t, shown[0].Foreign, 1)
}

// A zone that was retired, and is placed there again at once, is made again: the account's list of a moment ago does not count.
func TestPlacedAgainAfterRetiring(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for range 2 {
		h.define("heron-main", "@ A 192.0.2.1")
		done := h.sync(wire.SyncRequest{})
		require.Equal(t, wire.SyncDone, done.State, done.Message)
		require.Equal(t, wire.ActDone, h.retire(wire.RetireRequest{Account: "heron-main", Override: []string{delegate.GuardStillDelegated}, Reason: "a drill"}).State)
	}
}

// A domain with a DS at its parents does not move to nameservers that do not sign, nor before the DS and the old keys have expired everywhere.
func TestDelegateLooksAtDS(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	require.NoError(t, h.world.SetDS(zone.String(), "12345 13 2 "+strings.Repeat("ab", 32)))
	act := h.delegate(wire.DelegateRequest{})
	assert.Equal(t, wire.ActBlocked, act.State)
	assert.Equal(t, []string{gates.GateDS}, without(codes(act.Findings), gates.GateAnswers))
	dry, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	require.NoError(t, err)
	forecast, err := h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone, Agree: dry.Digest})
	require.NoError(t, err)
	assert.Empty(t, forecast.Closed)
	var steps []string
	for _, s := range forecast.Steps {
		steps = append(steps, strings.TrimSpace(string(s.Phase)+" "+string(s.Do)))
	}
	assert.Equal(t, []string{"insecure remove-ds", "insecure", "ready delegate", "settling", "done"}, steps, "%+v", forecast.Steps)
	assert.Contains(t, forecast.Next, "beacon ds remove")

	require.NoError(t, h.world.SetDS(zone.String()))
	act = h.delegate(wire.DelegateRequest{})
	assert.Equal(t, wire.ActBlocked, act.State)
	assert.Equal(t, []string{gates.GateDSWait}, without(codes(act.Findings), gates.GateAnswers), "caches may hold it, and the keys that it vouches for")
	assert.Contains(t, act.Findings[0].Message, "Caches may hold it for 120 s")
	act = h.delegate(wire.DelegateRequest{Override: []string{gates.GateDSWait, gates.GateAnswers}, Reason: "the zone was never validated"})
	assert.Equal(t, wire.ActDone, act.State, act.Message)
	entries, err := h.Logbook.Entries(ctx, access.Service, zone.String(), false, 0, 100)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(entries, func(e wire.Entry) bool { return strings.Contains(e.Detail, "the zone was never validated") }))
}

func without(list []string, one string) []string {
	return slices.DeleteFunc(list, func(s string) bool { return s == one })
}
