package service_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/provider"
	"beacon/service/apply"
	"beacon/service/delegate"
	"beacon/wire"
)

// A zone is deleted once it is placed nowhere and no parent leads to it; an account once nothing uses it.
func TestDeletion(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err := h.Delegations.Delete(ctx, access.Service, wire.DeleteRequest{Zone: zone})
	assert.ErrorContains(t, err, "beacon zone retire", "it is still placed")
	err = h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "heron-main")
	assert.ErrorContains(t, err, "placed there, such as saltmarsh-ferries.example")
	h.register()
	require.Equal(t, wire.ActDone, h.retire(wire.RetireRequest{Account: "heron-main"}).State)

	out, err := h.Delegations.PreviewDelete(ctx, access.Service, wire.DeleteRequest{Zone: zone})
	require.NoError(t, err)
	require.Len(t, out.Guards, 1)
	assert.Equal(t, delegate.GuardStillDelegated, out.Guards[0].Code)
	assert.Equal(t, 2, out.Records)
	_, err = h.Delegations.Delete(ctx, access.Service, wire.DeleteRequest{Zone: zone})
	assert.ErrorContains(t, err, "still delegates")
	_, err = h.Delegations.Delete(ctx, access.Service, wire.DeleteRequest{Zone: zone, Override: []string{delegate.GuardStillDelegated}})
	assert.ErrorContains(t, err, "--reason")
	_, err = h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err, "nothing was deleted yet")
	out, err = h.Delegations.Delete(ctx, access.Service, wire.DeleteRequest{Zone: zone, Override: []string{delegate.GuardStillDelegated}, Reason: "sold"})
	require.NoError(t, err)
	assert.True(t, out.Deleted)
	_, err = h.Overview.Zone(ctx, access.Service, zone)
	assert.ErrorContains(t, err, "not found")
	list, err := h.Logbook.Entries(ctx, access.Service, zone.String(), false, 0, 1)
	require.NoError(t, err)
	assert.Contains(t, list[0].Detail, "sold")

	require.NoError(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "heron-main"))
	assert.ErrorContains(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "heron-main"), "not found")
	h.define("curlew-ops", "@ A 192.0.2.1")
	assert.ErrorContains(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleRegistrar, "gannet-main"), "registrar")
}

// A zone whose file vanishes from the followed folder is told of once, and can be deleted.
func TestVanishedFile(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	settings := h.settings
	settings.Watch = apply.WatchSettings{Folder: t.TempDir(), Every: 50 * time.Millisecond}
	for _, name := range []string{"a", "b"} {
		require.NoError(t, os.WriteFile(filepath.Join(settings.Watch.Folder, name+".beacon.yaml"), []byte("zones:\n  "+name+"-pier.example:\n    records: |\n      @ A 192.0.2.1\n"), 0o600))
	}
	instance(t, settings)
	a := dnsname.MustParse("a-pier.example")
	require.Eventually(t, func() bool { _, err := h.Overview.Zone(ctx, access.Service, a); return err == nil }, 2*time.Minute, 20*time.Millisecond)
	_, err := h.Delegations.Delete(ctx, access.Service, wire.DeleteRequest{Zone: a})
	assert.ErrorContains(t, err, "managed by the file a.beacon.yaml")
	require.NoError(t, os.Remove(filepath.Join(settings.Watch.Folder, "a.beacon.yaml")))
	told := func() (n int) {
		list, err := h.Logbook.Entries(ctx, access.Service, a.String(), false, 0, 50)
		require.NoError(t, err)
		for _, e := range list {
			if e.Action == "files.vanished" {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return told() == 1 }, 2*time.Minute, 20*time.Millisecond)
	out, err := h.Delegations.Delete(ctx, access.Service, wire.DeleteRequest{Zone: a})
	require.NoError(t, err)
	assert.True(t, out.Deleted)
	require.NoError(t, os.WriteFile(filepath.Join(settings.Watch.Folder, "b.beacon.yaml"), []byte("zones:\n  b-pier.example:\n    records: |\n      @ A 192.0.2.2\n"), 0o600))
	b := dnsname.MustParse("b-pier.example")
	require.Eventually(t, func() bool {
		c, err := h.Zones.Wanted(ctx, b)
		return err == nil && c.Len() == 1 && c.Records()[0].Data == "192.0.2.2"
	}, 2*time.Minute, 20*time.Millisecond)
	assert.Equal(t, 1, told(), "once")
}

// Where the settings say so, a zone whose file vanishes goes from its providers and from here, once the gates allow it.
func TestVanishedFileIsPruned(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	settings := h.settings
	settings.Watch = apply.WatchSettings{Folder: t.TempDir(), Every: 50 * time.Millisecond, Prune: apply.PruneDelete}
	file := func(name string) string { return filepath.Join(settings.Watch.Folder, name+"beacon.yaml") }
	write := func(name dnsname.Name) {
		require.NoError(t, os.WriteFile(file(name.String()), []byte("zones:\n  "+name.String()+":\n    providers: [heron-main]\n    registrar: gannet-main\n    records: |\n      www A 192.0.2.1\n"), 0o600))
	}
	stays, goes := dnsname.MustParse("tides.example"), dnsname.MustParse("old-pier.example")
	for _, name := range []dnsname.Name{stays, goes, zone} {
		write(name)
	}
	h.register()
	instance(t, settings)
	at := func(name dnsname.Name) bool {
		_, found, err := provider.FindZone(ctx, h.direct("heron"), name)
		return err == nil && found
	}
	for _, name := range []dnsname.Name{stays, goes, zone} {
		require.Eventually(t, func() bool {
			v, err := h.Overview.Zone(ctx, access.Service, name)
			return err == nil && len(v.Placements) == 1 && v.Placements[0].LastSync != nil && v.Placements[0].LastSync.State == wire.SyncDone
		}, 2*time.Minute, 20*time.Millisecond)
	}
	require.Equal(t, wire.ActDone, h.delegate(wire.DelegateRequest{Override: []string{"sides-differ"}, Reason: "the old side is ours"}).State)
	for _, name := range []dnsname.Name{goes, zone} {
		require.NoError(t, os.Remove(file(name.String())))
	}
	require.Eventually(t, func() bool { _, err := h.Overview.Zone(ctx, access.Service, goes); return !at(goes) && err != nil }, 2*time.Minute, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		list, err := h.Logbook.Entries(ctx, access.Service, zone.String(), false, 0, 50)
		return err == nil && slices.ContainsFunc(list, func(e wire.Entry) bool {
			return e.Action == "files.not-pruned" && strings.Contains(e.Detail, delegate.GuardStillDelegated)
		})
	}, 2*time.Minute, 20*time.Millisecond)
	assert.True(t, at(stays) && at(zone), "one has its file, the other is delegated there")
}
