package service_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/service"
	"beacon/wire"
)

// A profile that is edited counts without a restart; one with faults keeps only accounts of its own kind from working.
func TestProfilesAreReadAgain(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	for _, name := range []string{"heron", "curlew", "plover", "gannet"} {
		text, err := os.ReadFile("../demo/profiles/" + name + ".profile.yaml")
		require.NoError(t, err)
		put(name+".profile.yaml", string(text))
	}
	put("odd.profile.yaml", "profile: odd\nnonsense: true\n")
	h := newHouseWith(t, func(s *service.Settings) { s.Profiles = folder })
	names := func(role string) (list []string) {
		for _, k := range h.Accounts.Kinds(ctx, role) {
			list = append(list, k.Name)
		}
		return list
	}
	assert.Contains(t, names(wire.RoleProvider), "heron")
	assert.NotContains(t, names(wire.RoleProvider), "gannet")
	assert.Equal(t, []string{"gannet"}, names(wire.RoleRegistrar))
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "odd-one", Role: wire.RoleProvider, Kind: "odd", Address: h.world.URL("heron"), Secret: "k"})
	assert.ErrorContains(t, err, `odd.profile.yaml:2:1: "nonsense" is not known`)
	assert.True(t, slices.ContainsFunc(err1(h.Overview.Accounts(ctx, access.Service, wire.RoleProvider)), func(a wire.AccountView) bool { return a.Name == "heron-main" }), "the others go on")

	text, err := os.ReadFile("../demo/profiles/heron.profile.yaml")
	require.NoError(t, err)
	put("heron.profile.yaml", strings.Replace(string(text), "name: Heron-Key", "name: Another-Key", 1))
	_, err = h.Accounts.RemoteZones(ctx, access.Service, "heron-main")
	assert.Error(t, err, "the credential travels in another header now")
	put("heron.profile.yaml", string(text)+"\n# as before\n")
	_, err = h.Accounts.RemoteZones(ctx, access.Service, "heron-main")
	assert.NoError(t, err)

	put("odd.profile.yaml", strings.Replace(string(text), "profile: heron", "profile: odd", 1))
	assert.Contains(t, names(wire.RoleProvider), "odd", "a corrected one counts too")
}

func err1[T any](v T, _ error) T { return v }
