package service_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/service"
	"beacon/service/check"
	"beacon/wire"
)

// gathered gathers the zone, and waits until that has ended.
func (h house) gathered(r wire.GatheringRequest) (g wire.Gathering) {
	h.t.Helper()
	r.Domain = zone
	_, err := h.Gather.Begin(ctx, access.Service, r)
	require.NoError(h.t, err)
	require.Eventually(h.t, func() bool {
		g, err = h.Gather.Show(ctx, access.Service, zone)
		return err != nil || g.FinishedAt != nil
	}, time.Minute, 20*time.Millisecond)
	require.NoError(h.t, err)
	return g
}

func (h house) sources(g wire.Gathering) (list []string) {
	for _, s := range g.Sources {
		list = append(list, string(s.Kind)+" "+string(s.Claim))
	}
	return list
}

func TestGather(t *testing.T) {
	t.Parallel()
	h := newHouseOn(t, func(s *service.Settings, control string) {
		s.RDAP = []check.RDAPSettings{{Zone: "example", Address: strings.Replace(control, ".9.1:", ".3.9:", 1)}}
	})
	h.register()
	at := func(label string, typ record.Type, data ...record.Data) record.Set {
		name, err := dnsname.ParseRelative(label, zone)
		require.NoError(t, err)
		return record.NewSet(name, typ, 300, data...)
	}
	h.byHand("plover", at("@", record.ALIAS, "post."+record.Data(zone.String())), at("@", record.MX, "10 post."+record.Data(zone.String())), at("post", record.A, "192.0.2.41"), at("*.cams", record.A, "192.0.2.42"), at("pier-17", record.TXT, `"nobody guesses this"`))
	_, err := h.Gather.Show(ctx, access.Service, zone)
	assert.ErrorContains(t, err, "were not gathered yet")

	fromAccount := h.gathered(wire.GatheringRequest{})
	assert.Equal(t, []string{"account complete", "asking unknown"}, h.sources(fromAccount), "the account, and what visitors get")
	assert.Equal(t, gather.Complete, fromAccount.Claim)
	assert.Empty(t, fromAccount.Doubts)

	require.NoError(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "plover-old"))
	alone := h.gathered(wire.GatheringRequest{Names: []string{"cams"}})
	assert.Equal(t, []string{"transfer failed", "walk failed", "asking unknown"}, h.sources(alone))
	assert.Equal(t, fromAccount.Count-1, alone.Count, "only the name that nobody guesses is missing")
	require.Len(t, alone.Doubts, 1, "the provider looks the apex up: its TTL counts down")
	assert.Equal(t, gather.CountsDown, alone.Doubts[0].Kind)
	_, err = h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone})
	assert.ErrorContains(t, err, "decide first, such as about @ A")
	assert.Equal(t, gather.Unknown, alone.Claim)

	file := "$ORIGIN " + zone.String() + "\npier-17 300 TXT \"nobody guesses this\"\nshed 300 A 192.0.2.9\n"
	both := h.gathered(wire.GatheringRequest{Names: []string{"cams"}, File: "old.zone", Text: file})
	assert.Equal(t, fromAccount.Count+1, both.Count, "what the file has as well")
	for _, set := range both.Records {
		if set.Name.Relative(zone) == "pier-17" {
			assert.Equal(t, []string{"old.zone"}, set.From[:1])
			assert.Len(t, set.From, 2, "its name was asked for")
		}
	}

	_, err = h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone, ID: fromAccount.ID})
	assert.ErrorContains(t, err, "gathered once more since then")
	_, err = h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone, Decisions: []wire.GatheringDecision{{Key: record.Key{Name: zone, Type: record.CAA}, Choice: gather.Keep}}})
	assert.ErrorContains(t, err, "nothing to decide about @ CAA")
	alias := []wire.GatheringDecision{{Key: record.Key{Name: zone, Type: record.A}, Choice: gather.Alias, Target: "post." + zone.String()}}
	dry, err := h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone, ID: both.ID, Decisions: alias, DryRun: true})
	require.NoError(t, err)
	assert.Nil(t, dry.Revision)
	done, err := h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone, ID: both.ID, Decisions: alias})
	require.NoError(t, err)
	require.NotNil(t, done.Revision)
	assert.Equal(t, dry.Counts, done.Counts)
	accepted, err := h.Zones.Records(ctx, access.Service, zone, "", 100)
	require.NoError(t, err)
	assert.Len(t, accepted.Items, done.Counts.Added)
	assert.True(t, slices.ContainsFunc(accepted.Items, func(r record.Record) bool { return r.Type == record.ALIAS && r.Name == zone }))
	z, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, "gannet-main", z.Registrar, "the account that has the domain")

	held, err := h.Gather.Holder(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, "gannet-main", held.Account)
	assert.Equal(t, "Gannet Names", held.Registrar)
	nobody, err := h.Gather.Holder(ctx, access.Service, dnsname.MustParse("nobody.example"))
	require.NoError(t, err)
	assert.Contains(t, nobody.Advice, "is not registered")

	for _, wrong := range []struct{ r, says string }{{"deep..name", "empty label"}, {"www.elsewhere.example.", "is not below"}} {
		_, err := h.Gather.Begin(ctx, access.Service, wire.GatheringRequest{Domain: zone, Names: []string{wrong.r}})
		assert.ErrorContains(t, err, wrong.says)
	}
	_, err = h.Gather.Begin(ctx, access.Service, wire.GatheringRequest{Domain: zone, File: "f", Text: "@ A 300.0.2.1\n"})
	assert.ErrorContains(t, err, "fault")
}
