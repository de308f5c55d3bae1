package service_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/profile/jq/jqtest"
	"beacon/profile/profiletest"
	"beacon/provider"
	"beacon/resolve"
	"beacon/service"
	"beacon/service/accounts"
	"beacon/service/check"
	"beacon/store/storetest"
	"beacon/wire"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var (
	ctx  = context.Background()
	zone = dnsname.MustParse("saltmarsh-ferries.example")
)

// house is a service on a practice world, with all accounts connected.
type house struct {
	*service.Service
	t        *testing.T
	world    *practice.World
	settings service.Settings
	stop     func() // ends the instance before the test does
}

func drivers(t testing.TB) service.Drivers {
	return service.Drivers{
		Kinds: map[string]accounts.Kind{
			"update": service.UpdateKind(),
			"fussy": {Driver: func(c accounts.Connection) (provider.Driver, error) {
				return fussy{profiletest.Driver(t, "heron", c.Client)}, nil
			}},
			"unsigned": {Driver: func(c accounts.Connection) (provider.Driver, error) {
				return unsigned{profiletest.Driver(t, "curlew", c.Client)}, nil
			}},
			"deaf": {Driver: func(c accounts.Connection) (provider.Driver, error) {
				return deaf{profiletest.Driver(t, "heron", c.Client)}, nil
			}},
		},
		Evaluator: jqtest.Command(t),
	}
}

func newHouse(t *testing.T) house { return newHouseWith(t, func(*service.Settings) {}) }

// newPatientHouse does the same with a service that waits long for what has to come.
func newPatientHouse(t *testing.T) house {
	return newHouseWith(t, func(s *service.Settings) { s.Request = 20 * time.Second })
}

// newHouseWith does the same with other settings.
func newHouseWith(t *testing.T, change func(*service.Settings)) house {
	t.Helper()
	return newHouseOn(t, func(s *service.Settings, _ string) { change(s) })
}

// newHouseOn does the same with settings that depend on the world, whose control address is given.
func newHouseOn(t *testing.T, change func(s *service.Settings, control string)) house {
	t.Helper()
	return newHouseIn(t, practicetest.Start(t, 60), change)
}

// newHouseIn does the same in a world that is there already.
func newHouseIn(t *testing.T, w *practice.World, change func(s *service.Settings, control string)) house {
	t.Helper()
	dir := t.TempDir()
	hints := filepath.Join(dir, "roots.zone")
	require.NoError(t, os.WriteFile(hints, []byte(w.RootHints()), 0o600))
	settings := service.Settings{Database: storetest.Settings(t), KeyFile: filepath.Join(dir, "key"), AllowedNetworks: []string{"127.0.0.0/8"},
		DNS:        service.DNSSettings{RootHints: hints, Port: netip.MustParseAddrPort(w.DNSAddress("0.1")).Port(), PerSecond: -1},
		WorldClock: w.URL("control") + "/clock", Checks: check.CheckSettings{Settling: 2 * time.Minute, Settled: time.Hour},
		Lease: 4 * time.Second, Request: time.Second, Workers: 2, Profiles: "../demo/profiles",
		Hosts: service.HostSettings{AllowedNetworks: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8::/32")}}}
	for _, r := range w.Resolvers() {
		settings.Resolvers = append(settings.Resolvers, resolve.Resolver{Name: r.Name, Address: r.Address})
	}
	settings.Websites.Overrides = routes(t, w.URL("control"))
	change(&settings, w.URL("control"))
	svc, stop := stoppable(t, settings)
	h := house{svc, t, w, settings, stop}
	for _, a := range []wire.NewAccount{
		{Name: "heron-main", Role: wire.RoleProvider, Kind: "heron", Address: w.URL("heron"), Secret: "heron-practice-key"},
		{Name: "curlew-ops", Role: wire.RoleProvider, Kind: "curlew", Address: w.URL("curlew"), Secret: "desk:curlew-practice-key"},
		{Name: "plover-old", Role: wire.RoleProvider, Kind: "plover", Address: w.URL("plover"), Secret: "plover-practice-key"},
		{Name: "gannet-main", Role: wire.RoleRegistrar, Kind: "gannet", Address: w.URL("gannet"), Secret: "gannet-practice-key"},
	} {
		_, err := svc.Accounts.AddAccount(ctx, access.Service, a)
		require.NoError(t, err)
	}
	return h
}

// instance opens and runs a service until the test ends.
func instance(t *testing.T, settings service.Settings) *service.Service {
	t.Helper()
	svc, _ := stoppable(t, settings)
	return svc
}

// stoppable does the same, and gives what ends it.
func stoppable(t *testing.T, settings service.Settings) (*service.Service, func()) {
	t.Helper()
	svc, err := service.Open(ctx, settings, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	running, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	group.Go(func() { svc.Run(running) })
	end := sync.OnceFunc(func() { stop(); group.Wait(); svc.Close() })
	t.Cleanup(end)
	return svc, end
}

// define takes records as what the zone should contain, at the given accounts.
func (h house) define(at, records string) {
	h.t.Helper()
	text := fmt.Sprintf("zones:\n  saltmarsh-ferries.example:\n    providers: [%s]\n    registrar: gannet-main\n    records: |\n      %s\n", at, indented(records))
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(h.t, err)
}

// sync runs a sync to its end, whatever that is.
func (h house) sync(r wire.SyncRequest) wire.SyncView {
	h.t.Helper()
	r.Zone = zone
	list, err := h.Syncs.StartSync(ctx, access.Service, r)
	require.NoError(h.t, err)
	return h.ended(list[0].ID)
}

func (h house) ended(id uint64) (v wire.SyncView) {
	h.t.Helper()
	require.Eventually(h.t, func() bool {
		var err error
		v, err = h.Overview.Sync(ctx, access.Service, id)
		require.NoError(h.t, err)
		return v.State.Ended()
	}, 2*time.Minute, 20*time.Millisecond)
	return v
}

// direct is the driver of an account, past the service: somebody else's hand.
func (h house) direct(kind string) provider.Driver {
	return profiletest.Driver(h.t, kind, outcall.Client{HTTP: http.DefaultClient, Base: h.world.URL(kind)})
}

func (h house) live(kind string) record.Contents {
	h.t.Helper()
	z, found, err := provider.FindZone(ctx, h.direct(kind), zone)
	require.NoError(h.t, err)
	require.True(h.t, found)
	c, err := provider.ReadAll(ctx, h.direct(kind), z.Ref, provider.State{})
	require.NoError(h.t, err)
	return c.Contents
}

// byHand writes to a provider as its own site would.
func (h house) byHand(kind string, sets ...record.Set) {
	h.t.Helper()
	z, _, err := provider.FindZone(ctx, h.direct(kind), zone)
	require.NoError(h.t, err)
	now, err := provider.ReadAll(ctx, h.direct(kind), z.Ref, provider.State{})
	require.NoError(h.t, err)
	live := now.Contents
	wanted := live
	for _, s := range sets { // what a new zone is filled with makes way
		if s.Type == record.ALIAS {
			wanted = wanted.Without(record.Key{Name: s.Name, Type: record.A}, record.Key{Name: s.Name, Type: record.AAAA})
		}
		if s.Type != record.CNAME {
			wanted = wanted.Without(record.Key{Name: s.Name, Type: record.CNAME})
		}
	}
	r := diff.Compare(wanted.With(sets...), live, live, diff.LeaveDrift)
	caps, err := h.direct(kind).Describe(ctx, z.Ref)
	require.NoError(h.t, err)
	for _, b := range caps.Pack(r.Steps, live) {
		b.Mark, b.Details = now.Mark, now.Details
		receipt, err := h.direct(kind).Apply(ctx, z.Ref, b)
		for err == nil && !receipt.Done {
			time.Sleep(20 * time.Millisecond)
			receipt, err = h.direct(kind).Poll(ctx, receipt)
		}
		require.NoError(h.t, err)
	}
}

func (h house) fault(body string) {
	h.t.Helper()
	res, err := http.Post(h.world.URL("control")+"/faults", "application/json", strings.NewReader(body))
	require.NoError(h.t, err)
	res.Body.Close()
	require.Equal(h.t, 204, res.StatusCode)
}

func set(t *testing.T, label string, typ record.Type, data ...record.Data) record.Set {
	t.Helper()
	name, err := dnsname.ParseRelative(label, zone)
	require.NoError(t, err)
	return record.NewSet(name, typ, 60, data...)
}

func codes(list []finding.Finding) (out []string) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

func asProblem(t *testing.T, err error) *wire.Problem {
	t.Helper()
	var p *wire.Problem
	require.ErrorAs(t, err, &p)
	return p
}

func TestSyncAtEveryKindOfProvider(t *testing.T) {
	t.Parallel()
	h := newPatientHouse(t)
	h.define("heron-main, plover-old, curlew-ops", "@ A 192.0.2.1\nwww CNAME @\ntxt TXT \"a;b\"")
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	require.Len(t, list, 3)
	for _, s := range list {
		done := h.ended(s.ID)
		assert.Equal(t, wire.SyncDone, done.State, done.Message)
		assert.GreaterOrEqual(t, done.Added, 2, "Plover has put the same www there")
		assert.Equal(t, 1, done.Requests)
		assert.NotNil(t, done.VisibleMS, "every nameserver serves it: %v", done.Findings)
	}
	assert.Equal(t, h.live("heron").Records(), h.live("plover").Records())
	assert.Equal(t, h.live("heron").Records(), h.live("curlew").Records())
	h.define("heron-main, plover-old, curlew-ops", "@ A 192.0.2.2\nwww A 192.0.2.2")
	for _, account := range []string{"heron-main", "plover-old", "curlew-ops"} {
		done := h.sync(wire.SyncRequest{Account: account, Allow: []string{diff.GuardNamesStop}})
		assert.Equal(t, wire.SyncDone, done.State, done.Message)
	}
	for _, kind := range []string{"heron", "plover", "curlew"} {
		assert.Equal(t, 2, h.live(kind).Len(), kind)
	}
	again := h.sync(wire.SyncRequest{Account: "heron-main"})
	assert.Zero(t, again.Requests, "nothing to do costs no write")
}

// What the other side does wrong is waited out, read again or told; never doubled and never half done in silence.
func TestSyncThroughFaults(t *testing.T) {
	t.Parallel()
	for name, fault := range map[string]string{
		"limited":              `{"site":"4.1","status":429,"count":3}`,
		"broken":               `{"site":"4.1","status":500,"count":2}`,
		"cut before":           `{"site":"4.1","cut_before":true,"count":2}`,
		"cut after it is done": `{"site":"4.1","cut_after":true,"count":2}`,
		"slower than it may":   `{"site":"4.1","delay_ms":1500,"count":2}`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t)
			h.define("heron-main", "@ A 192.0.2.1\na A 192.0.2.1")
			require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
			h.define("heron-main", "@ A 192.0.2.2\na A 192.0.2.2\nb A 192.0.2.2")
			h.fault(fault)
			done := h.sync(wire.SyncRequest{})
			assert.Equal(t, wire.SyncDone, done.State, done.Message)
			assert.Equal(t, 3, h.live("heron").Len())
			assert.Equal(t, 3, done.Added+done.Changed, "each step counts once")
		})
	}
}

// A write that broke off is looked for before anything is repeated: what was done is not done again.
func TestUnclearWriteIsReadNotRepeated(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		account, site string
		fault         string
		requests      int
	}{
		"by set, done":      {"heron-main", "4.1", `"cut_after"`, 1},
		"by set, not done":  {"heron-main", "4.1", `"cut_before"`, 2},
		"by zone, done":     {"plover-old", "5.1", `"cut_after"`, 1},
		"by zone, not done": {"plover-old", "5.1", `"cut_before"`, 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t)
			cut := `{"site":"` + c.site + `",` + c.fault + `:true,"writes":true,"count":1}`
			h.fault(cut)
			h.define(c.account, "@ A 192.0.2.1")
			require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
			zones, err := h.Accounts.RemoteZones(ctx, access.Service, c.account)
			require.NoError(t, err)
			assert.Len(t, zones, 1, "making the zone broke off: one zone, not two")

			h.fault(cut)
			h.define(c.account, "@ A 192.0.2.1\nnew A 192.0.2.2")
			done := h.sync(wire.SyncRequest{})
			assert.Equal(t, wire.SyncDone, done.State, done.Message)
			assert.Equal(t, c.requests, done.Requests)
			assert.Equal(t, 1, done.Added)
		})
	}
}

func TestDriftForeignAndConflict(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	foreign, drift := set(t, "by-hand", record.TXT, `"not ours"`), set(t, "www", record.A, "192.0.2.66")
	h.byHand("heron", foreign, drift)
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Empty(t, list[0].Steps)
	assert.Len(t, list[0].Drift, 1)
	assert.Len(t, list[0].Foreign, 1)
	left := h.sync(wire.SyncRequest{})
	assert.Equal(t, []string{"drift-not-reverted"}, codes(left.Findings))
	assert.True(t, h.live("heron").Get(drift.Key()).Equal(drift), "drift is left until somebody decides")

	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.7")
	held := h.sync(wire.SyncRequest{})
	assert.Equal(t, wire.SyncBlocked, held.State)
	assert.Equal(t, []string{"conflict"}, codes(held.Findings))

	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	back := h.sync(wire.SyncRequest{Revert: true})
	assert.Equal(t, wire.SyncDone, back.State, back.Message)
	assert.Equal(t, 1, back.Changed)
	assert.True(t, h.live("heron").Get(foreign.Key()).Equal(foreign), "foreign records are left alone")
}

func TestGuardAndShownListHoldASync(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.define("heron-main", "@ A 192.0.2.1")
	held := h.sync(wire.SyncRequest{})
	assert.Equal(t, wire.SyncBlocked, held.State)
	assert.Equal(t, []string{diff.GuardNamesStop}, codes(held.Findings))
	assert.Equal(t, 2, h.live("heron").Len(), "nothing was written")
	other := h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}, Expect: "another list"})
	assert.Equal(t, wire.SyncBlocked, other.State)
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	done := h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}, Expect: list[0].Digest})
	assert.Equal(t, wire.SyncDone, done.State, done.Message)
	assert.Equal(t, 1, h.live("heron").Len())
}

func TestTwoSyncsAreNeverInterleaved(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	h.fault(`{"site":"4.1","delay_ms":150}`)
	first, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	_, err = h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	p := asProblem(t, err)
	assert.Equal(t, wire.Blocked, p.Kind)
	assert.Contains(t, p.Message, fmt.Sprintf("Sync %d", first[0].ID))
	assert.Equal(t, wire.SyncDone, h.ended(first[0].ID).State)
}

// Two instances on one database: every piece of work is done once, by either.
func TestInstancesShareTheWork(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	instance(t, h.settings)
	const zones = 12
	var text strings.Builder
	text.WriteString("zones:\n")
	for i := range zones {
		fmt.Fprintf(&text, "  pier-%02d.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n", i)
	}
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "piers.beacon.yaml", Text: text.String()}}})
	require.NoError(t, err)
	var started []uint64
	for i := range zones {
		list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: dnsname.MustParse(fmt.Sprintf("pier-%02d.example", i))})
		require.NoError(t, err)
		started = append(started, list[0].ID)
	}
	for _, id := range started {
		done := h.ended(id)
		assert.Equal(t, wire.SyncDone, done.State, done.Message)
		assert.Equal(t, 1, done.Requests)
	}
	remote, err := h.Accounts.RemoteZones(ctx, access.Service, "heron-main")
	require.NoError(t, err)
	assert.Len(t, remote, zones, "each zone was made once")
}

func TestWrongCredential(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "heron-two", Role: wire.RoleProvider, Kind: "heron", Address: h.world.URL("heron"), Secret: "wr0ng-s3cret"})
	p := asProblem(t, err)
	assert.Equal(t, wire.UpstreamFailed, p.Kind)
	assert.Contains(t, p.Message, "heron-two", "which account")
	assert.Contains(t, p.Message, "this key is not known here", "what the other side answered")
	assert.NotContains(t, p.Message, "wr0ng-s3cret")
	lines, err := h.Logbook.Entries(ctx, access.Service, "heron-two", true, 0, 10)
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.NotContains(t, fmt.Sprint(lines), "wr0ng-s3cret")
	for _, bad := range []wire.NewAccount{{Name: "Bad Name"}, {Name: "a", Kind: "nope"}, {Name: "a", Kind: "heron", Address: "ftp://x"},
		{Name: "a", Kind: "heron", Address: "http://127.0.0.1:1"}, {Name: "a", Kind: "heron", Address: "http://192.0.2.1", Secret: "x"}} {
		bad.Role = wire.RoleProvider
		_, err := h.Accounts.AddAccount(ctx, access.Service, bad)
		assert.Error(t, err, "%+v", bad)
	}
}

func TestDefinitionWithFaultsChangesNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	text := "zones:\n  a.example:\n    providers: [nowhere]\n    records: |\n      w A 192.0.2.1\n  b.example:\n    records: |\n      w A https://x/\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "f.beacon.yaml", Text: text}}})
	p := asProblem(t, err)
	require.Len(t, p.Faults, 2, "all faults in one go")
	assert.Equal(t, 2, p.Faults[0].Line)
	assert.Contains(t, p.Faults[0].Message, `"nowhere"`)
	assert.Equal(t, 8, p.Faults[1].Line)
	zones, _, err := h.Overview.Zones(ctx, access.Service, dnsname.Name{}, 100)
	require.NoError(t, err)
	assert.Empty(t, zones)
}

func TestImport(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	file := "$TTL 300\n@ SOA a. b. 1 2 3 4 5\n@ NS ns1.old.example.\nwww A 192.0.2.1\nsub NS ns1.old.example.\n"
	dry, err := h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, File: "x.zone", Text: file, DryRun: true})
	require.NoError(t, err)
	assert.Len(t, dry.Added, 2)
	assert.Len(t, dry.LeftOut, 2)
	_, err = h.Overview.Zone(ctx, access.Service, zone)
	assert.Equal(t, wire.NotFound, asProblem(t, err).Kind, "a dry run makes nothing")
	done, err := h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, File: "x.zone", Text: file})
	require.NoError(t, err)
	assert.EqualValues(t, 1, done.Revision.Number)
	again, err := h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, File: "x.zone", Text: file + "new A 192.0.2.2\n"})
	require.NoError(t, err)
	assert.Len(t, again.Added, 1)
	assert.Equal(t, 2, again.Same)
	_, err = h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, File: "x.zone", Text: "www A 1\nwww A 2\n"})
	assert.Len(t, asProblem(t, err).Faults, 4)
	_, err = h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, File: "x.zone", Text: "$TTL 60\nwww A 192.0.2.1\nwww CNAME b\n"})
	assert.Equal(t, []string{"cname-beside-data"}, codes(asProblem(t, err).Findings))
	list, err := h.Zones.Revisions(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Len(t, list, 2, "refused imports leave no revision")
}

// register makes the domain at the registrar, served by Plover with the records of the zone there.
func (h house) register() {
	h.t.Helper()
	z, found, err := provider.FindZone(ctx, h.direct("plover"), zone)
	require.NoError(h.t, err)
	if !found {
		z, err = h.direct("plover").Create(ctx, zone, provider.ZoneOptions{})
		require.NoError(h.t, err)
	}
	var hosts []string
	for _, n := range z.Nameservers {
		hosts = append(hosts, n.String())
	}
	require.NoError(h.t, h.world.Register(zone.String(), hosts, 120))
	h.byHand("plover", set(h.t, "@", record.A, "192.0.2.1"), set(h.t, "www", record.A, "192.0.2.1"))
}

func TestDelegate(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	_, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.Contains(t, asProblem(t, err).Message, "beacon sync", "no nameservers are known before the zone is there")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	view, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	var good []string
	for _, n := range view.Placements[0].Nameservers {
		good = append(good, n.String())
	}
	for code, typed := range map[string][]string{
		"nameserver-repeated":  append([]string{strings.ToUpper(good[0])}, good...),
		"nameserver-malformed": append([]string{"ns1..heron.test"}, good[1:]...),
	} {
		_, err := h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: zone, Nameservers: typed})
		assert.Contains(t, codes(asProblem(t, err).Findings), code)
	}
	for code, typed := range map[string][]string{
		"nameserver-misspelt":     append([]string{strings.Replace(good[0], "quay-1", "quay-2", 1)}, good[1:]...),
		"nameserver-not-assigned": append([]string{"ns1.nowhere.example"}, good[1:]...),
	} {
		act := h.delegate(wire.DelegateRequest{Nameservers: typed})
		assert.Equal(t, wire.ActBlocked, act.State)
		assert.Contains(t, codes(act.Findings), code)
	}
	calls, err := h.Logbook.Entries(ctx, access.Service, "gannet-main", true, 0, 200)
	require.NoError(t, err)
	for _, c := range calls { // checks read there meanwhile
		assert.False(t, strings.HasPrefix(c.Detail, "PUT ") || strings.HasPrefix(c.Detail, "POST "), "the registrar was asked to change something: %s", c.Detail)
	}

	dry, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	require.NoError(t, err)
	assert.Equal(t, []string{"save", "activate"}, dry.Steps)
	assert.Equal(t, []string{"sides-differ"}, codes(dry.Closed), "www differs between old and new")

	saved := h.delegate(wire.DelegateRequest{SaveOnly: true, Agree: dry.Digest})
	require.Equal(t, wire.ActDone, saved.State, saved.Message)
	assert.NotEqual(t, saved.Delegated.After.Saved, saved.Delegated.After.Active)
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, delegation.NeedsAction, report.Verdict)
	assert.Contains(t, codes(report.Findings), "saved-not-active")

	moved := h.delegate(wire.DelegateRequest{Agree: dry.Digest})
	require.Equal(t, wire.ActDone, moved.State, moved.Message)
	assert.Equal(t, []string{"activate"}, moved.Delegated.Steps)
	again := h.delegate(wire.DelegateRequest{})
	assert.Equal(t, wire.ActDone, again.State, again.Message)
	assert.Empty(t, again.Requests, "the same request again changes nothing")
	report, err = h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, delegation.Settling, report.Verdict, "%v", report.Findings)
	require.NotNil(t, report.SettlesBy)
	require.Eventually(t, func() bool { // by itself, without anybody asking
		list, _, err := h.Overview.Domains(ctx, access.Service, dnsname.Name{}, 100, wire.DomainFilter{})
		require.NoError(t, err)
		return list[0].Verdict == delegation.Settled
	}, 2*time.Minute, 200*time.Millisecond)
}

func TestDelegateNeedsReadyServers(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	h.fault(`{"site":"1.2","silent":true}`) // from the start: a definition that is taken is checked at once
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.Contains(t, asProblem(t, err).Message, "without the present delegation", "one of two parents cannot be asked")
	h.fault(`{"site":"1.2"}`)
	h.fault(`{"site":"4.13","silent":true}`) // one address of four
	act := h.delegate(wire.DelegateRequest{})
	assert.Equal(t, wire.ActBlocked, act.State)
	assert.Contains(t, codes(act.Findings), "nameserver-not-ready")
}

func TestCheckOfStrangers(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	r, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, delegation.Settled, r.Verdict, "%v", r.Findings)
	r, err = h.Checks.Check(ctx, access.Service, dnsname.MustParse("nobody.example"))
	require.NoError(t, err)
	assert.Equal(t, delegation.Undelegated, r.Verdict)
	h.fault(`{"site":"0.1","silent":true}`)
	h.fault(`{"site":"0.2","silent":true}`)
	r, err = h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, delegation.Unknown, r.Verdict, "a check that failed says nothing about the domain")
}

// The link of a first start works once: then there is a user, and neither it nor another one is worth anything.
func TestFirstUserOnce(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	const password = "seagulls over the quay"
	code, err := h.Users.FirstCode(ctx)
	require.NoError(t, err)
	other, err := h.Users.FirstCode(ctx) // of a second instance
	require.NoError(t, err)
	_, err = h.Users.Caller(ctx, code, here, access.See)
	assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind, "it is no token")
	for _, wrong := range []wire.FirstUser{{Code: code, Password: "short"}, {Code: code, Password: "the admin of this"}, {Code: code + "x", Password: password}, {Password: password}} {
		_, err = h.Users.TakeFirstCode(ctx, wrong, here)
		assert.Error(t, err, "%v", wrong)
	}
	made, err := h.Users.TakeFirstCode(ctx, wire.FirstUser{Code: code, Password: password}, netip.MustParseAddr("198.51.100.9"))
	require.NoError(t, err)
	assert.Equal(t, "admin", made.Name)
	for _, again := range []string{code, other} {
		_, err = h.Users.TakeFirstCode(ctx, wire.FirstUser{Code: again, Password: password}, netip.MustParseAddr("198.51.100.9"))
		assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind)
	}
	none, err := h.Users.FirstCode(ctx)
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.Error(t, h.Users.FirstUser(ctx, password), "there is one")

	token, _, err := h.Users.SignIn(ctx, "admin", password, netip.MustParseAddr("198.51.100.9"))
	require.NoError(t, err)
	caller, err := h.Users.Caller(ctx, token, netip.Addr{}, access.See)
	require.NoError(t, err)
	assert.Equal(t, "admin", caller.Name)
	_, _, err = h.Users.SignIn(ctx, "admin", "wrong", netip.MustParseAddr("198.51.100.9"))
	assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind)
	require.NoError(t, h.Users.SignOut(ctx, caller, token))
	_, err = h.Users.Caller(ctx, token, netip.Addr{}, access.See)
	assert.True(t, errors.As(err, new(*wire.Problem)))
}

// indented lets records stand in a definition.
func indented(records string) string { return strings.ReplaceAll(records, "\n", "\n      ") }
