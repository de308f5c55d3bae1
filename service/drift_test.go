package service_test

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
	"beacon/service"
	"beacon/service/accounts"
	"beacon/service/delegate"
	"beacon/wire"
)

// standing waits until the placement at an account stands as wanted, and gives how.
func (h house) standing(account string, want wire.PlacementState) (p wire.PlacementView) {
	h.t.Helper()
	require.Eventually(h.t, func() bool {
		list, _, err := h.Overview.PlacementViews(ctx, access.Service, dnsname.Name{}, 200)
		require.NoError(h.t, err)
		for _, s := range list {
			if s.Account == account {
				p = s
			}
		}
		return p.State == want
	}, 2*time.Minute, 30*time.Millisecond, "standing at %s", account)
	return p
}

// place defines the zone at an account, with zone settings.
func (h house) place(at, settings, records string) {
	h.t.Helper()
	text := "zones:\n  saltmarsh-ferries.example:\n    providers: [" + at + "]\n    registrar: gannet-main\n" + indentedSettings(settings) + "    records: |\n      " + indented(records) + "\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Manage: true, Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(h.t, err)
}

func indentedSettings(settings string) string {
	if settings == "" {
		return ""
	}
	return "    " + strings.ReplaceAll(settings, "\n", "\n    ") + "\n"
}

// driftHouse is a house that looks for drift every second.
func driftHouse(t *testing.T) house {
	return newHouseWith(t, func(s *service.Settings) { s.Drift.Every = time.Second })
}

// What somebody changed at a provider is seen without being asked for, and done about it is what the zone's definition says.
func TestDriftIsSeenAndAnswered(t *testing.T) {
	t.Parallel()
	h := driftHouse(t)
	const records = "@ A 192.0.2.1\nwww A 192.0.2.2"
	h.place("heron-main", "", records)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.standing("heron-main", wire.InSync)
	changed := set(t, "www", record.A, "192.0.2.99")

	h.byHand("heron", changed)
	assert.Equal(t, 1, h.standing("heron-main", wire.Drifted).Drifted)
	_, err := h.Syncs.Adopt(ctx, access.Service, zone, wire.Adoption{Account: "heron-main"})
	assert.ErrorContains(t, err, "managed by the definition file", "what a file leads is not adopted behind its back")

	h.place("heron-main", "drift: revert", records)
	h.standing("heron-main", wire.InSync)
	require.Eventually(t, func() bool { return h.live("heron").Get(changed.Key()).Data[0] == "192.0.2.2" }, 2*time.Minute, 50*time.Millisecond)

	require.NoError(t, err0(h.Zones.Detach(ctx, access.Service, zone)))
	h.byHand("heron", changed)
	h.standing("heron-main", wire.InSync)
	require.Eventually(t, func() bool { return h.live("heron").Get(changed.Key()).Data[0] == "192.0.2.2" }, 2*time.Minute, 50*time.Millisecond)
}

func TestDriftIsAdopted(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2\ngone A 192.0.2.3")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err := h.Syncs.Adopt(ctx, access.Service, zone, wire.Adoption{Account: "heron-main"})
	assert.ErrorContains(t, err, "nothing to adopt")
	changed := set(t, "www", record.A, "192.0.2.99")
	h.byHand("heron", changed)
	taken, err := h.Syncs.Adopt(ctx, access.Service, zone, wire.Adoption{Account: "heron-main"})
	require.NoError(t, err)
	require.Len(t, taken, 1)
	wanted, err := h.Zones.Wanted(ctx, zone)
	require.NoError(t, err)
	assert.True(t, wanted.Get(changed.Key()).SameData(changed))
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Empty(t, list[0].Drift)
	assert.Empty(t, list[0].Steps)
	_, err = h.Syncs.Adopt(ctx, access.Service, zone, wire.Adoption{Account: "plover-old"})
	assert.ErrorContains(t, err, "not placed at")
}

// Guards speak one by one, each for what it watches, and the zone is untouched until each has its yes.
func TestGuardsSpeak(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.place("heron-main", `protect: ["www *"]`, "@ A 192.0.2.1\n@ MX 10 mx.post.example.\n@ TXT \"v=spf1 mx -all\"\nwww A 192.0.2.2\nold A 192.0.2.3")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	before := h.live("heron")
	h.place("heron-main", `protect: ["www *"]`, "@ A 192.0.2.1")
	held := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncBlocked, held.State)
	var codes []string
	for _, f := range held.Findings {
		codes = append(codes, f.Code)
		assert.Contains(t, f.Remedy, "--allow "+f.Code)
	}
	assert.ElementsMatch(t, []string{diff.GuardNamesStop, diff.GuardProtected, diff.GuardMail}, codes)
	assert.Equal(t, before.Records(), h.live("heron").Records())
	assert.Equal(t, wire.SyncBlocked, h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop, diff.GuardMail}}).State)
	assert.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Allow: codes}).State)
	assert.Equal(t, 1, h.live("heron").Len())
}

// Where only what is ours is touched, records that were there before us stay, whatever is wanted.
func TestKeepExisting(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.byHand("heron", set(t, "theirs", record.A, "192.0.2.50"))
	h.define("heron-main", "@ A 192.0.2.1\ntheirs A 192.0.2.51\nours A 192.0.2.52")
	assert.Equal(t, wire.SyncBlocked, h.sync(wire.SyncRequest{}).State)
	h.place("heron-main", "keep_existing: true", "@ A 192.0.2.1\ntheirs A 192.0.2.51\nours A 192.0.2.52")
	assert.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	assert.EqualValues(t, "192.0.2.50", h.live("heron").Get(set(t, "theirs", record.A, "x").Key()).Data[0])
	assert.False(t, h.live("heron").Get(set(t, "ours", record.A, "x").Key()).IsZero())
}

// An attribute that is declared is put there and put back; one that somebody set at the provider's own site is kept through
// every write that does not speak of it. Behind a relay, nobody waits for the written address.
func TestAttributes(t *testing.T) {
	t.Parallel()
	h := newPatientHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	details := func() change.Details {
		z, _, err := provider.FindZone(ctx, h.direct("heron"), zone)
		require.NoError(t, err)
		s, err := provider.ReadAll(ctx, h.direct("heron"), z.Ref, provider.State{})
		require.NoError(t, err)
		return s.Details
	}
	www, apex := set(t, "www", record.A, "192.0.2.2"), record.NewSet(zone, record.A, 3600, "192.0.2.1")
	h.place("heron-main", "attributes: {\"www A\": {relay: \"on\"}}", "@ A 192.0.2.1\nwww A 192.0.2.2")
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	require.Len(t, list[0].Steps, 1)
	assert.Contains(t, list[0].Steps[0].Reason, "relay=on")
	done := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, done.State)
	assert.NotNil(t, done.VisibleMS, "what a relay answers is not waited for")
	assert.Equal(t, "on", details()[www.Key()].Attributes["relay"])
	assert.Zero(t, h.sync(wire.SyncRequest{}).Requests, "and is not fought over")

	z, _, err := provider.FindZone(ctx, h.direct("heron"), zone)
	require.NoError(t, err)
	_, err = h.direct("heron").Apply(ctx, z.Ref, change.Batch{Steps: change.List{{Before: apex, After: apex, Attributes: map[string]string{"relay": "on"}}}})
	require.NoError(t, err)
	h.place("heron-main", "attributes: {\"www A\": {relay: \"on\"}}", "@ A 192.0.2.7\nwww A 192.0.2.2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	assert.Equal(t, "on", details()[apex.Key()].Attributes["relay"], "a switch that somebody turned at the provider's site stays")
	assert.EqualValues(t, "192.0.2.7", h.live("heron").Get(apex.Key()).Data[0])
}

func TestCredentials(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	tried, err := h.Accounts.RotateAccount(ctx, access.Service, "heron-main", wire.NewCredential{Role: wire.RoleProvider, Secret: "heron-owner-key"})
	require.NoError(t, err)
	require.Len(t, tried.Findings, 1)
	assert.Equal(t, "credential-too-strong", tried.Findings[0].Code)
	_, err = h.Accounts.RotateAccount(ctx, access.Service, "heron-main", wire.NewCredential{Role: wire.RoleProvider, Secret: "heron-viewer-key"})
	assert.ErrorContains(t, err, "may only read", "zones are placed there that have to be written")
	_, err = h.Accounts.RotateAccount(ctx, access.Service, "heron-main", wire.NewCredential{Role: wire.RoleProvider, Secret: "nothing"})
	assert.ErrorContains(t, err, "401")
	require.NoError(t, err0(h.Accounts.RotateAccount(ctx, access.Service, "heron-main", wire.NewCredential{Role: wire.RoleProvider, Secret: "heron-second-key"})))

	before, err := os.ReadFile(h.settings.KeyFile)
	require.NoError(t, err)
	n, err := accounts.RotateKey(context.Background(), accounts.KeyRotation{Database: h.settings.Database, KeyFile: h.settings.KeyFile, Reach: h.settings.AllowedNetworks})
	require.NoError(t, err)
	assert.Equal(t, 4, n)
	after, err := os.ReadFile(h.settings.KeyFile)
	require.NoError(t, err)
	assert.NotEqual(t, before, after)
	assert.Len(t, after, 32)
	h.define("heron-main", "@ A 192.0.2.2")
	assert.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State, "an instance that ran meanwhile reads the new key by itself")
	accounts, err := h.Overview.Accounts(ctx, access.Service, wire.RoleProvider)
	require.NoError(t, err)
	require.Len(t, accounts, 3)
	assert.Equal(t, 1, accounts[1].Zones)
	assert.NotNil(t, accounts[1].UsedAt)
	assert.NotNil(t, accounts[1].RotatedAt)
}

func err0[T any](_ T, err error) error { return err }

func TestVerify(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	_, err := h.Accounts.Verify(ctx, access.Service, "heron-main", wire.Verification{Role: wire.RoleProvider, Zone: zone})
	assert.ErrorContains(t, err, "is managed here")
	_, err = h.Accounts.Verify(ctx, access.Service, "heron-main", wire.Verification{Role: wire.RoleProvider})
	assert.ErrorContains(t, err, "Name what the run may change")
	run := h.verified("curlew-ops", wire.Verification{Role: wire.RoleProvider, Zone: dnsname.MustParse("scratch.example")})
	assert.Zero(t, run.Failed)
	assert.GreaterOrEqual(t, len(run.Checks), 30)
	assert.Equal(t, run.Of, len(run.Checks))

	_, err = h.Accounts.Verify(ctx, access.Service, "gannet-main", wire.Verification{Role: wire.RoleRegistrar, Domain: zone, Nameservers: []string{"quay-11.heron.test", "quay-13.heron.test"}})
	assert.ErrorContains(t, err, "is managed here")
	require.NoError(t, h.world.Register("spare.example", []string{"a.plover.test", "b.plover.test"}, 0))
	run = h.verified("gannet-main", wire.Verification{Role: wire.RoleRegistrar, Domain: dnsname.MustParse("spare.example"), Nameservers: []string{"quay-11.heron.test", "quay-13.heron.test"}})
	assert.Zero(t, run.Failed, "%+v", run)
	list, err := h.Accounts.Verifications(ctx, access.Service, wire.RoleRegistrar, "gannet-main")
	require.NoError(t, err)
	assert.Equal(t, []wire.VerificationRun{run}, list)
}

// verified makes a conformance run, and waits until it has ended.
func (h house) verified(account string, r wire.Verification) (run wire.VerificationRun) {
	run, err := h.Accounts.Verify(ctx, access.Service, account, r)
	require.NoError(h.t, err)
	require.Eventually(h.t, func() bool {
		run, err = h.Accounts.Verification(ctx, access.Service, run.ID)
		return err != nil || run.FinishedAt != nil
	}, 2*time.Minute, 50*time.Millisecond)
	require.NoError(h.t, err)
	require.Equal(h.t, "done", run.State, run.Problem)
	return run
}

// A zone that the parent leads to is not taken from its provider without a yes; afterwards it is gone there, or left, as was
// asked, and the domain is to be delegated to what remains.
func TestRetire(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1")
	for _, account := range []string{"heron-main", "curlew-ops"} {
		require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: account}).State)
	}
	v, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	var hosts []string
	for _, p := range v.Placements {
		if p.Account == "heron-main" {
			for _, n := range p.Nameservers {
				hosts = append(hosts, n.String())
			}
		}
	}
	require.NoError(t, h.world.Register("saltmarsh-ferries.example", hosts, 600))
	act := h.retire(wire.RetireRequest{Account: "heron-main"})
	assert.Equal(t, wire.ActBlocked, act.State)
	require.Len(t, act.Findings, 1)
	assert.Equal(t, delegate.GuardStillDelegated, act.Findings[0].Code)
	assert.Equal(t, 1, h.zonesNamed("heron"), "nothing was changed")

	act = h.retire(wire.RetireRequest{Account: "curlew-ops"})
	assert.Equal(t, wire.ActDone, act.State, act.Message)
	assert.True(t, act.Retired.Removed)
	assert.Equal(t, []string{"heron-main"}, act.Retired.Left)
	assert.Zero(t, h.zonesNamed("curlew"))

	act = h.retire(wire.RetireRequest{Account: "heron-main", Keep: true})
	assert.Equal(t, wire.ActDone, act.State, act.Message)
	assert.False(t, act.Retired.Removed)
	assert.Equal(t, 1, h.zonesNamed("heron"), "it is left there")
	_, err = h.Syncs.Differences(ctx, access.Service, zone, false)
	assert.ErrorContains(t, err, "not placed at any provider")
}

// How a zone is looked after is said by hand where no file leads it, and is then what syncs go by.
func TestZoneSettingsByHand(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	settings := wire.ZoneSettings{Drift: "revert", Protect: []string{"www *"}, Websites: []string{"@", "shop"}, Attributes: []wire.SetAttribute{{Set: "www A", Name: "relay", Value: "on"}, {Set: "@ A", Name: "relay", Value: "off"}}}
	got, err := h.Zones.SetZoneSettings(ctx, access.Service, zone, settings, anyState)
	require.NoError(t, err)
	assert.ElementsMatch(t, settings.Attributes, got.Attributes)
	assert.Equal(t, settings.Websites, got.Websites)
	v, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, got, v.Settings)
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	require.Len(t, list[0].Steps, 1, "the attribute is to be put there")
	h.register()
	for _, c := range []struct{ said, seen []string }{{[]string{"@", "shop"}, []string{"@", "shop"}}, {[]string{}, nil}, {nil, []string{"@", "www"}}} {
		settings.Websites = c.said
		_, err := h.Zones.SetZoneSettings(ctx, access.Service, zone, settings, anyState)
		require.NoError(t, err)
		report, err := h.Checks.Check(ctx, access.Service, zone)
		require.NoError(t, err)
		var seen []string
		if report.Arrival != nil {
			for _, s := range report.Arrival.Sites {
				seen = append(seen, definition.WebsiteLabels([]dnsname.Name{s.Name}, zone)...)
			}
		}
		assert.Equal(t, c.seen, seen)
	}
	for _, wrong := range []wire.ZoneSettings{{Drift: "maybe"}, {Drift: "manual", Websites: []string{"www.other.example."}}, {Drift: "manual", Protect: []string{"www"}}, {Drift: "manual", Attributes: []wire.SetAttribute{{Set: "www", Name: "a", Value: "b"}}},
		{Drift: "manual", Attributes: []wire.SetAttribute{{Set: "www A", Value: "b"}}}} {
		_, err := h.Zones.SetZoneSettings(ctx, access.Service, zone, wrong, anyState)
		var p *wire.Problem
		require.ErrorAs(t, err, &p, "%v", wrong)
		assert.Equal(t, wire.Invalid, p.Kind)
	}
	h.place("heron-main", "", "@ A 192.0.2.1\nwww A 192.0.2.2")
	_, err = h.Zones.SetZoneSettings(ctx, access.Service, zone, settings, anyState)
	assert.ErrorContains(t, err, "managed by the definition file")
}

// anyState agrees to the present settings, whatever they are.
func anyState(wire.ZoneSettings) error { return nil }
