package service_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/handover/compare"
	"beacon/wire"
)

// The same zone at five kinds of providers, which differ in TTL steps, in what they keep of a set, in how they write TXT and rotate: pairs of them answer the same. In the soak
// these are 200 pairs.
func TestKindsOfProvidersAnswerTheSame(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for _, a := range []wire.NewAccount{
		{Name: "whimbrel-lab", Role: wire.RoleProvider, Kind: "whimbrel", Address: h.world.URL("whimbrel"), Parts: map[string]string{"client_id": "desk", "client_secret": "whimbrel-practice-secret"}},
		{Name: "lapwing-lab", Role: wire.RoleProvider, Kind: "lapwing", Address: h.world.URL("lapwing"), Parts: map[string]string{"key_id": "desk", "secret": "lapwing-practice-secret"}},
	} {
		_, err := h.Accounts.AddAccount(ctx, access.Service, a)
		require.NoError(t, err)
	}
	kinds := []string{"heron-main", "curlew-ops", "plover-old", "whimbrel-lab", "lapwing-lab"}
	zones := 2
	if os.Getenv("BEACON_SOAK") != "" {
		zones = 50
	}
	rng := rand.New(rand.NewPCG(3, 9))
	pairs := 0
	for i := range zones {
		name := dnsname.MustParse(fmt.Sprintf("pair-%d.example", i))
		var records strings.Builder
		for _, line := range drawnRecords(rng) {
			fmt.Fprintf(&records, "      %s\n", line)
		}
		text := "zones:\n  " + name.String() + ":\n    providers: [" + strings.Join(kinds, ", ") + "]\n    registrar: gannet-main\n    ttl: 300\n    records: |\n" + records.String()
		_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "pairs.beacon.yaml", Text: text}}})
		require.NoError(t, err)
		list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: name})
		require.NoError(t, err)
		for _, v := range list {
			ended := h.ended(v.ID)
			require.Equal(t, wire.SyncDone, ended.State, "%s: %s %s", v.Account, ended.Message, text)
		}
		z, err := h.Overview.Zone(ctx, access.Service, name)
		require.NoError(t, err)
		sets := map[string][]string{}
		for _, p := range z.Placements {
			for _, n := range p.Nameservers {
				sets[p.Account] = append(sets[p.Account], n.String())
			}
		}
		at := kinds[i%len(kinds)]
		require.NoError(t, h.world.Register(name.String(), sets[at], 300))
		for _, kind := range kinds {
			if kind == at {
				continue
			}
			looked, err := h.Delegations.Look(ctx, wire.DelegateRequest{Domain: name, Nameservers: sets[kind]}, nil)
			require.NoError(t, err)
			pairs++
			assert.Greater(t, looked.Compared, 10)
			assert.Empty(t, compare.Open(looked.Differences), "%s and %s: %s", at, kind, text)
		}
	}
	t.Logf("%d pairs", pairs)
	assert.Equal(t, 4*zones, pairs)
}

// drawnRecords are lines of a zone by chance, with what providers treat differently: many TTLs, sets of several records, texts of several strings, wildcards, empty names between,
// aliases and delegations.
func drawnRecords(rng *rand.Rand) []string {
	lines := []string{"@ A 192.0.2.1", "@ A 192.0.2.2", "@ MX 10 mail.post.example.", "www CNAME @", `@ TXT "v=spf1 " "-all"`, "*.quay A 192.0.2.3", "deep.below.empty A 192.0.2.4",
		"_sip._tcp SRV 0 5 5060 www", "cut NS ns1.elsewhere.test."}
	for i := range 3 + rng.IntN(6) {
		ttl := []int{60, 300, 777, 3600, 86400}[rng.IntN(5)]
		lines = append(lines, []string{
			fmt.Sprintf("n%d %d AAAA 2001:db8::%d", i, ttl, i+1), fmt.Sprintf("n%d.l1 %d A 198.51.100.%d", i, ttl, i+1), fmt.Sprintf(`t%d %d TXT "one" " two \"three\""`, i, ttl),
			fmt.Sprintf("*.w%d %d A 203.0.113.%d", i, ttl, i+1), fmt.Sprintf(`c%d %d CAA 0 issue "ca.example"`, i, ttl), fmt.Sprintf("m%d %d MX 0 .", i, ttl)}[rng.IntN(6)])
	}
	return lines
}
