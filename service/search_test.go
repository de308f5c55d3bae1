package service_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/wire"
)

// piers defines a number of zones, each with a web host at the same address.
func (h house) piers(n int, lead bool) {
	h.t.Helper()
	var text strings.Builder
	text.WriteString("zones:\n")
	for i := range n {
		fmt.Fprintf(&text, "  pier-%02d.example:\n    records: |\n      @ 300 A 192.0.2.40\n      www CNAME @\n      @ MX 10 mx1.post.example.\n      @ TXT \"v=spf1 mx -all\"\n      gauge-%d AAAA 2001:db8::%x\n", i, i, i+1)
	}
	_, err := h.Apply.Apply(h.t.Context(), access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "piers.beacon.yaml", Text: text.String()}}, Manage: lead})
	require.NoError(h.t, err)
}

// found returns all that a search finds, over all its pages.
func (h house) found(r wire.SearchRequest) (list []string) {
	h.t.Helper()
	for r.Limit = 7; ; {
		hits, next, err := h.Zones.Search(ctx, access.Service, r)
		require.NoError(h.t, err)
		for _, hit := range hits {
			assert.True(h.t, hit.Record.Name.IsAtOrBelow(hit.Zone))
			list = append(list, strings.TrimSuffix(hit.Record.Name.String(), ".")+" "+hit.Record.Type.String())
		}
		if next == "" {
			return list
		}
		r.Cursor = next
	}
}

func TestSearch(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.piers(20, false)
	for _, c := range []struct {
		ask   wire.SearchRequest
		count int
		first string
	}{
		{wire.SearchRequest{Text: "192.0.2.40"}, 20, "pier-00.example A"},
		{wire.SearchRequest{Text: "192.0.2.0/24"}, 20, "pier-00.example A"},
		{wire.SearchRequest{Text: "2001:db8::/124"}, 15, "gauge-0.pier-00.example AAAA"},
		{wire.SearchRequest{Address: "2001:db8::1"}, 1, "gauge-0.pier-00.example AAAA"},
		{wire.SearchRequest{Text: "mx1.post.example"}, 20, "pier-00.example MX"},
		{wire.SearchRequest{Text: "pier-03.example."}, 4, "pier-03.example A"}, // by name three, and what points at it
		{wire.SearchRequest{Name: "www.*"}, 20, "www.pier-00.example CNAME"},
		{wire.SearchRequest{Name: "*07.example"}, 5, "pier-07.example A"},
		{wire.SearchRequest{Value: "v=spf1*"}, 20, "pier-00.example TXT"},
		{wire.SearchRequest{Value: "*.post.example", Type: "mx"}, 20, "pier-00.example MX"},
		{wire.SearchRequest{Type: "CNAME", Zone: "pier-05.example"}, 1, "www.pier-05.example CNAME"},
		{wire.SearchRequest{TTL: "<3600"}, 20, "pier-00.example A"},
		{wire.SearchRequest{TTL: ">=3600", Type: "TXT"}, 20, "pier-00.example TXT"},
		{wire.SearchRequest{TTL: "300", Name: "pier-01.example"}, 1, "pier-01.example A"},
		{wire.SearchRequest{Name: "nowhere.example"}, 0, ""},
		{wire.SearchRequest{Value: "100%*"}, 0, ""},
	} {
		got := h.found(c.ask)
		require.Len(t, got, c.count, "%+v", c.ask)
		if c.count > 0 {
			assert.Contains(t, got, c.first, "%+v", c.ask)
		}
		seen := map[string]bool{}
		for _, line := range got {
			assert.False(t, seen[line], "%s twice", line)
			seen[line] = true
		}
	}
	for _, bad := range []wire.SearchRequest{{}, {Name: "a*b"}, {Address: "web"}, {TTL: "soon"}, {Type: "WORD"}, {Zone: "a..b"}, {Text: "x", Cursor: "9.x"}, {Text: "x", Cursor: "0.!"}} {
		bad.Limit = 5
		_, _, err := h.Zones.Search(ctx, access.Service, bad)
		assert.NotEmpty(t, asProblem(t, err).Message, "%+v", bad)
	}
}

// A change over forty zones is one step, and so is its undoing.
func TestOperationOverFortyZones(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.piers(40, false)
	ask := wire.ReplaceRequest{Search: wire.SearchRequest{Text: "192.0.2.40"}, To: "192.0.2.50", DryRun: true}
	plan, err := h.Zones.Replace(ctx, access.Service, ask)
	require.NoError(t, err)
	assert.Len(t, plan.Zones, 40)
	assert.Nil(t, plan.Operation)
	assert.Len(t, h.found(wire.SearchRequest{Text: "192.0.2.40"}), 40)
	ask.DryRun, ask.Expect, ask.Reason = false, "another", "the server moved"
	_, err = h.Zones.Replace(ctx, access.Service, ask)
	assert.Equal(t, wire.Stale, asProblem(t, err).Kind)
	ask.Expect = plan.Digest
	done, err := h.Zones.Replace(ctx, access.Service, ask)
	require.NoError(t, err)
	assert.Equal(t, 40, done.Records)
	assert.Empty(t, h.found(wire.SearchRequest{Text: "192.0.2.40"}))
	assert.Len(t, h.found(wire.SearchRequest{Text: "192.0.2.50"}), 40)

	// One of them changes: undoing is refused as a whole, and nothing is undone.
	one := dnsname.MustParse("pier-07.example")
	d, err := h.Zones.Draft(ctx, access.Service, one)
	require.NoError(t, err)
	was := h.wantedAt(one, record.A)
	d, err = h.Zones.EditDraft(ctx, access.Service, one, d.Tag, edits(wire.RecordEdit{Before: &was, After: &record.Record{Name: one, TTL: 60, Type: record.A, Data: "192.0.2.77"}}))
	require.NoError(t, err)
	_, err = h.Zones.AcceptDraft(ctx, access.Service, one, d.Tag, "")
	require.NoError(t, err)
	_, err = h.Zones.UndoOperation(ctx, access.Service, done.Operation.ID)
	p := asProblem(t, err)
	require.Len(t, p.Findings, 1)
	assert.Contains(t, p.Findings[0].Subject, "pier-07.example")
	assert.Len(t, h.found(wire.SearchRequest{Text: "192.0.2.50"}), 39)
	_, err = h.Zones.Restore(ctx, access.Service, one, 2, "")
	require.NoError(t, err)
	undone, err := h.Zones.UndoOperation(ctx, access.Service, done.Operation.ID)
	require.NoError(t, err)
	assert.Len(t, undone.Zones, 40)
	assert.Len(t, h.found(wire.SearchRequest{Text: "192.0.2.40"}), 40)
	_, err = h.Zones.UndoOperation(ctx, access.Service, done.Operation.ID)
	assert.Equal(t, wire.Blocked, asProblem(t, err).Kind)
	list, err := h.Overview.Operations(ctx, access.Service, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, done.Operation.ID, *list[0].UndoesID)

	// Undoing the undoing is one more operation.
	again, err := h.Zones.UndoOperation(ctx, access.Service, undone.Operation.ID)
	require.NoError(t, err)
	assert.Len(t, again.Zones, 40)

	for _, c := range []struct {
		ask  wire.ReplaceRequest
		says string
	}{
		{wire.ReplaceRequest{Search: wire.SearchRequest{Text: "192.0.2.50"}}, "Name the new data or the new TTL"},
		{wire.ReplaceRequest{Search: wire.SearchRequest{Text: "192.0.2.50"}, To: "web"}, "no IP address"},
		{wire.ReplaceRequest{Search: wire.SearchRequest{Text: "192.0.2.99"}, To: "192.0.2.1"}, "No record is found"},
	} {
		_, err := h.Zones.Replace(ctx, access.Service, c.ask)
		assert.Contains(t, asProblem(t, err).Message, c.says)
	}
	_, err = h.Zones.Replace(ctx, access.Service, wire.ReplaceRequest{Search: wire.SearchRequest{Value: "mx1.post.example", Type: "MX"}, To: "192.0.2.9."})
	assert.NotEmpty(t, asProblem(t, err).Findings, "an address is no mail server")
	ttl := uint32(60)
	hosts, err := h.Zones.Replace(ctx, access.Service, wire.ReplaceRequest{Search: wire.SearchRequest{Value: "mx1.post.example", Type: "MX"}, To: "mx2.post.example.", TTL: &ttl})
	require.NoError(t, err)
	assert.Equal(t, record.Data("10 mx2.post.example."), hosts.Zones[0].Steps[0].After.Data[0])
	assert.EqualValues(t, 60, hosts.Zones[0].Steps[0].After.TTL)
}

func (h house) wantedAt(zone dnsname.Name, t record.Type) record.Record {
	h.t.Helper()
	c, err := h.Zones.Wanted(ctx, zone)
	require.NoError(h.t, err)
	return c.Get(record.Key{Name: zone, Type: t}).Records()[0]
}

func TestOperationsLeaveLedZonesAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.piers(3, true)
	h.define("heron-main", "@ A 192.0.2.40\nwww CNAME @")
	ask := wire.ReplaceRequest{Search: wire.SearchRequest{Text: "192.0.2.40"}, To: "192.0.2.50"}
	_, err := h.Zones.Replace(ctx, access.Service, ask)
	assert.Contains(t, asProblem(t, err).Message, "3 of the zones are managed by definition files")
	ask.SkipManaged = true
	done, err := h.Zones.Replace(ctx, access.Service, ask)
	require.NoError(t, err)
	assert.Len(t, done.Zones, 1)
	assert.Len(t, done.Skipped, 3)
	syncs, err := h.Apply.SyncOperation(ctx, access.Service, done.Operation.ID)
	require.NoError(t, err)
	require.Len(t, syncs, 1)
	assert.Equal(t, wire.SyncDone, h.ended(syncs[0].ID).State)
}

// Rows for searching of a zone that is too large to be shown at once come in the background, and keep up.
func TestRowsOfALargeZone(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	text := func(from, to int) string {
		var b strings.Builder
		b.WriteString("$TTL 60\n")
		for i := from; i < to; i++ {
			fmt.Fprintf(&b, "h%d A 198.51.100.%d\n", i, i%250)
		}
		return b.String()
	}
	count := func(name string, n int) {
		t.Helper()
		require.Eventually(t, func() bool { return len(h.found(wire.SearchRequest{Name: name})) == n }, 2*time.Minute, 50*time.Millisecond, name)
	}
	for i, r := range [][2]int{{0, 5000}, {10, 5000}, {4000, 9000}} {
		_, err := h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, Partial: true, File: "big", Text: text(r[0], r[1])})
		require.NoError(t, err)
		count("h4999.*", 1)
		count("h5.*", map[bool]int{true: 1, false: 0}[i == 0])
		count("h8999.*", map[bool]int{true: 1, false: 0}[i == 2])
	}
}
