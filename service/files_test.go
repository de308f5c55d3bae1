package service_test

import (
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
	"beacon/service"
	"beacon/service/apply"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

const withKit = `kits:
  post-office:
    parameters: {policy: {type: choice, of: [none, reject], default: none}}
    records: |
      @       MX   10 mx1.post.example.
      _dmarc  TXT  "v=DMARC1; p=${policy}"
zones:
  saltmarsh-ferries.example:
    description: Ferries
    providers: [heron-main]
    registrar: gannet-main
    ttl: 600
    kits: [{post-office: {policy: reject}}]
    records: |
      www  A  192.0.2.1
    ignore: ["_acme-challenge.** TXT"]
`

func lead(text string) wire.ApplyRequest {
	return wire.ApplyRequest{Files: []definition.File{{Name: "ferries.beacon.yaml", Text: text}}, Manage: true}
}

// A zone that files lead refuses edits elsewhere, until a user takes it over and gets the matching definition.
func TestFilesLead(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	defined, err := h.Apply.Apply(ctx, access.Service, lead(withKit))
	require.NoError(t, err)
	assert.Equal(t, []string{"post-office"}, defined[0].Kits)
	for i, r := range defined[0].Added {
		assert.Equal(t, r.Type != record.A, defined[0].From[i] == "post-office", "%s", r)
	}
	d, err := h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, "ferries.beacon.yaml", d.ManagedBy)
	add := edits(wire.RecordEdit{After: rec(t, "cam", 60, record.A, "192.0.2.5")})
	for name, try := range map[string]func() error{
		"edit": func() error { _, err := h.Zones.EditDraft(ctx, access.Service, zone, d.Tag, add); return err },
		"import": func() error {
			_, err := h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, Text: "$TTL 60\nwww A 192.0.2.9\n"})
			return err
		},
		"restore": func() error { _, err := h.Zones.Restore(ctx, access.Service, zone, 1, ""); return err },
		"replace": func() error {
			_, err := h.Zones.Replace(ctx, access.Service, wire.ReplaceRequest{Search: wire.SearchRequest{Text: "192.0.2.1"}, To: "192.0.2.2"})
			return err
		},
	} {
		p := asProblem(t, try())
		assert.Equal(t, wire.Blocked, p.Kind, name)
		assert.Contains(t, p.Message, "ferries.beacon.yaml", name)
	}

	got, err := h.Zones.Detach(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, []string{"post-office"}, got.Kits)
	assert.Contains(t, got.Text, "kits: [{post-office: {policy: reject}}]\n    records: |\n      www A 192.0.2.1\n    ignore: [\"_acme-challenge.** TXT\"]")
	_, err = h.Zones.Detach(ctx, access.Service, zone)
	assert.Equal(t, wire.Blocked, asProblem(t, err).Kind)
	if d, err = h.Zones.Draft(ctx, access.Service, zone); assert.NoError(t, err) {
		d, err = h.Zones.EditDraft(ctx, access.Service, zone, d.Tag, add)
		require.NoError(t, err)
	}
	_, err = h.Apply.Apply(ctx, access.Service, lead(withKit))
	assert.Contains(t, asProblem(t, err).Message, "draft has 1 edit,", "the files know nothing of it")
	_, err = h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "")
	require.NoError(t, err)

	// The definition that is written back out defines exactly the same, and leads again.
	back, err := h.Zones.ZoneDefinition(ctx, access.Service, zone)
	require.NoError(t, err)
	defined, err = h.Apply.Apply(ctx, access.Service, lead(back.Text))
	require.NoError(t, err, back.Text)
	assert.Empty(t, append(defined[0].Added, defined[0].Removed...))
	assert.True(t, defined[0].Detached)
	z, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, "ferries.beacon.yaml", z.ManagedBy)
	assert.False(t, z.Detached)
}

// Sets that a definition leaves to others are neither touched nor told of.
func TestLeave(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.Apply.Apply(ctx, access.Service, lead(withKit))
	require.NoError(t, err)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.byHand("heron", record.NewSet(rec(t, "_acme-challenge.www", 0, record.TXT, "x").Name, record.TXT, 120, `"token"`))
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Empty(t, list[0].Foreign)
	assert.Empty(t, list[0].Steps)
}

func TestWatchedFolder(t *testing.T) {
	h := newHouse(t)
	settings := h.settings
	settings.Watch = apply.WatchSettings{Folder: t.TempDir(), Every: 50 * time.Millisecond, Environment: []string{"BEACON_TEST_PIER"}}
	t.Setenv("BEACON_TEST_PIER", "192.0.2.33")
	t.Setenv("BEACON_TEST_SECRET", "192.0.2.44")
	path := filepath.Join(settings.Watch.Folder, "ferries.beacon.yaml")
	write := func(text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	live := func(name string, data record.Data) func() bool {
		return func() bool {
			z, found, err := provider.FindZone(ctx, h.direct("heron"), zone)
			if err != nil || !found {
				return false
			}
			c, err := provider.ReadAll(ctx, h.direct("heron"), z.Ref, provider.State{})
			set := c.Contents.Get(rec(t, name, 0, record.A, "192.0.2.1").Key())
			return err == nil && len(set.Data) == 1 && set.Data[0] == data
		}
	}
	logged := func(action string) func() bool {
		return func() bool {
			list, err := h.Logbook.Entries(ctx, access.Service, "", false, 0, 200)
			require.NoError(t, err)
			for _, e := range list {
				if e.Action == action {
					return true
				}
			}
			return false
		}
	}
	write("values:\n  pier: {environment: BEACON_TEST_PIER}\nzones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      www  A  192.0.2.1\n      pier A ${pier}\n")
	instance(t, settings)
	require.Eventually(t, live("www", "192.0.2.1"), 20*time.Second, 50*time.Millisecond)
	assert.True(t, live("pier", "192.0.2.33")())

	write("values:\n  pier: {environment: BEACON_TEST_SECRET}\nzones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      www  A  ${pier}\n")
	require.Eventually(t, logged("files.refused"), 20*time.Second, 50*time.Millisecond, "the settings do not hand out that variable")
	write("zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      www  A  192.0.2.2\n      pier A 192.0.2.33\n")
	require.Eventually(t, live("www", "192.0.2.2"), 20*time.Second, 50*time.Millisecond)

	// A draft that is in the way is waited for: nobody has to touch the files again.
	other := "zones:\n  tidepool.example:\n    records: |\n      a A 192.0.2.1\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "o", Text: other}}})
	require.NoError(t, err)
	pool := dnsname.MustParse("tidepool.example")
	d, err := h.Zones.Draft(ctx, access.Service, pool)
	require.NoError(t, err)
	d, err = h.Zones.EditDraft(ctx, access.Service, pool, d.Tag, edits(wire.RecordEdit{After: &record.Record{Name: pool, TTL: 60, Type: record.A, Data: "192.0.2.5"}}))
	require.NoError(t, err)
	write("zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      www  A  192.0.2.4\n      pier A 192.0.2.33\n" + strings.TrimPrefix(other, "zones:\n"))
	time.Sleep(500 * time.Millisecond)
	assert.True(t, live("www", "192.0.2.2")(), "all of it or nothing")
	require.NoError(t, h.Zones.DiscardDraft(ctx, access.Service, pool, d.Tag))
	require.Eventually(t, live("www", "192.0.2.4"), 20*time.Second, 50*time.Millisecond)

	_, err = h.Zones.Detach(ctx, access.Service, zone)
	require.NoError(t, err)
	write("zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      www  A  192.0.2.3\n      pier A 192.0.2.33\n")
	require.Eventually(t, logged("files.skipped"), 20*time.Second, 50*time.Millisecond)
	assert.True(t, live("www", "192.0.2.4")(), "a zone that was taken over is left alone")
}

// What was taken from the files goes out, though the service stops between the two and another zone's sync is in the way.
func TestWatchedFolderLosesNoSync(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.stop() // nobody works
	settings := h.settings
	settings.Watch = apply.WatchSettings{Folder: t.TempDir(), Every: 50 * time.Millisecond}
	svc, err := service.Open(ctx, settings, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	files := func(data string) string {
		return "zones:\n  a.example:\n    providers: [curlew-ops]\n    records: |\n      www A " + data + "\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      www A " + data + "\n"
	}
	_, err = svc.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "x", Text: files("192.0.2.1")}}})
	require.NoError(t, err)
	_, err = svc.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: dnsname.MustParse("a.example")})
	require.NoError(t, err)

	require.NoError(t, os.WriteFile(filepath.Join(settings.Watch.Folder, "all.beacon.yaml"), []byte(files("192.0.2.2")), 0o600))
	require.ErrorIs(t, svc.Apply.RunWatch(ctx, store.Job{}), store.ErrLeaseLost, "it was stopped after the files were accepted")
	v, err := svc.Zones.Revisions(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Len(t, v, 2)
	svc.Close()

	instance(t, settings)
	require.Eventually(t, func() bool {
		for _, name := range []dnsname.Name{dnsname.MustParse("a.example"), zone} {
			d := h.direct(map[bool]string{true: "heron", false: "curlew"}[name == zone])
			z, found, err := provider.FindZone(ctx, d, name)
			if err != nil || !found {
				return false
			}
			c, err := provider.ReadAll(ctx, d, z.Ref, provider.State{})
			if err != nil || !slices.Equal(c.Contents.Get(record.Key{Name: dnsname.MustParse("www." + name.String()), Type: record.A}).Data, []record.Data{"192.0.2.2"}) {
				return false
			}
		}
		return true
	}, 2*time.Minute, 50*time.Millisecond)
}

func TestHouseKit(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	settings := h.settings
	file := filepath.Join(t.TempDir(), "house.beacon.yaml")
	settings.NewZones = zones.NewZoneSettings{Kits: file, Kit: "house", With: map[string]string{"site": "192.0.2.40"}}
	require.NoError(t, os.WriteFile(file, []byte("kits:\n  house:\n    description: What every zone begins with\n    parameters: {site: ipv4}\n    records: |\n      @    A      ${site}\n      www  CNAME  @\n"), 0o600))
	svc := instance(t, settings)
	assert.Equal(t, "house", svc.Zones.HouseKit().Name)
	generated, err := svc.Gather.Generate(ctx, access.Service, wire.GenerateRequest{Zone: zone, New: true, Providers: []string{"heron-main"}})
	require.NoError(t, err)
	defined, err := svc.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "x", Text: generated.Text}}})
	require.NoError(t, err, generated.Text)
	assert.Equal(t, []string{"@ A 192.0.2.40", "www CNAME saltmarsh-ferries.example."}, texts(defined[0].Added))
	settings.NewZones.With = nil
	_, err = service.Open(ctx, settings, drivers(t), nil)
	assert.ErrorContains(t, err, "needs site")
}
