package service_test

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service/hosts"
	"beacon/wire"
)

var cam = dnsname.MustParse("cam.saltmarsh-ferries.example")

// newHost lets cam follow, without holds, and gives its token. Documentation addresses are believed here.
func (h house) newHost() string {
	h.t.Helper()
	added, err := h.Hosts.AddHost(ctx, access.Service, wire.NewHost{Name: cam, V4: true, V6: true, Policy: steady})
	require.NoError(h.t, err)
	return added.Token
}

func (h house) report(token, v4, v6 string) dynaddr.Decision {
	h.t.Helper()
	d, err := h.reportWith(token, hosts.AddressReport{Said: url.Values{"v4": {v4}, "v6": {v6}}, Peer: netip.MustParseAddr("127.0.0.1")})
	require.NoError(h.t, err)
	return d
}

// arrived waits until the newest report of cam is visible everywhere.
func (h house) arrived() wire.HostView {
	h.t.Helper()
	var v wire.HostView
	require.Eventually(h.t, func() bool {
		var err error
		v, err = h.Hosts.Host(ctx, access.Service, cam)
		require.NoError(h.t, err)
		for _, a := range v.Last.Arrivals {
			if a.VisibleAt == nil {
				return false
			}
		}
		return len(v.Last.Arrivals) > 0
	}, 2*time.Minute, 20*time.Millisecond)
	return v
}

func addressOf(c record.Contents) string {
	var all []string
	for _, r := range c.At(cam) {
		all = append(all, string(r.Data))
	}
	return strings.Join(all, " ")
}

func (h house) requests() int {
	h.t.Helper()
	list, err := h.Logbook.Entries(ctx, access.Service, "heron-main", true, 0, 200)
	require.NoError(h.t, err)
	return len(list)
}

func TestHostFollowsItsReports(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\ncam 60 A 192.0.2.9")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	token := h.newHost()
	h.define("heron-main", "@ A 192.0.2.2\ncam 60 A 192.0.2.9") // accepted, not written: no report may write it

	assert.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.7", "").Outcome)
	v := h.arrived()
	assert.Equal(t, []string{"cam.saltmarsh-ferries.example A"}, h.found(wire.SearchRequest{Text: "198.51.100.7"}), "it is found by what was reported")
	assert.Empty(t, h.found(wire.SearchRequest{Text: "192.0.2.9"}))
	assert.Equal(t, "198.51.100.7", v.V4)
	require.Len(t, v.Last.Arrivals, 1)
	a := v.Last.Arrivals[0]
	assert.False(t, v.Last.AcceptedAt.Before(v.Last.ReportedAt))
	assert.False(t, a.WrittenAt.Before(*v.Last.AcceptedAt))
	assert.False(t, a.VisibleAt.Before(*a.WrittenAt))
	assert.Equal(t, "192.0.2.1", string(h.live("heron").Get(record.Key{Name: zone, Type: record.A}).Data[0]), "the rest of the zone is not touched")

	before := h.requests()
	for range 5 {
		assert.Equal(t, dynaddr.Unchanged, h.report(token, "198.51.100.7", "").Outcome)
	}
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, before, h.requests(), "what is unchanged asks and writes nothing")

	assert.Equal(t, dynaddr.Accepted, h.report(token, "", "2001:db8::7").Outcome)
	h.arrived()
	assert.Equal(t, "198.51.100.7 2001:db8::7", addressOf(h.live("heron")))

	// A sync of the whole zone keeps what was reported, and a revision was never made of it.
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	assert.Equal(t, "198.51.100.7 2001:db8::7", addressOf(h.live("heron")))
	revisions, err := h.Zones.Revisions(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Len(t, revisions, 2)

	// Somebody else's hand at the provider does not hold up the next report.
	h.byHand("heron", set(t, "cam", record.A, "203.0.113.66"))
	assert.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.8", "").Outcome)
	h.arrived()
	assert.Equal(t, "198.51.100.8 2001:db8::7", addressOf(h.live("heron")))

	// Let go, the name goes back to its definition with the next sync, and its token is nobody's.
	require.NoError(t, h.Hosts.RemoveHost(ctx, access.Service, cam))
	assert.Len(t, h.found(wire.SearchRequest{Text: "192.0.2.9"}), 1)
	_, err = h.reportWith(token, hosts.AddressReport{Said: url.Values{"v4": {"198.51.100.9"}}})
	assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	assert.Equal(t, "192.0.2.9", addressOf(h.live("heron")))
}

func TestReportsThatAreRefused(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	token := h.newHost()
	for range 3 {
		assert.Equal(t, dynaddr.Refused, h.report(token, "10.0.0.7", "").Outcome)
	}
	d, err := h.reportWith(token, hosts.AddressReport{Said: url.Values{"host": {"other.example"}, "v4": {"198.51.100.7"}}})
	require.NoError(t, err)
	assert.Contains(t, d.Reason, "reports for cam.saltmarsh-ferries.example, not for")
	v, err := h.Hosts.Host(ctx, access.Service, cam)
	require.NoError(t, err)
	require.Len(t, v.Reports, 2, "the same again is counted")
	assert.Equal(t, 3, v.Reports[1].Times)
	assert.Empty(t, v.V4)
	// Before the zone is anywhere, a report is kept, and comes with the zone.
	assert.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.7", "").Outcome)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	assert.Equal(t, "198.51.100.7", addressOf(h.live("heron")))
}

// What could not be written is tried again when the host reports the same address again.
func TestUnchangedReportMendsAFailedWrite(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	token := h.newHost()
	h.fault(`{"site":"4.1","status":403,"writes":true,"count":1}`)
	assert.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.7", "").Outcome)
	require.Eventually(t, func() bool {
		v, err := h.Hosts.Host(ctx, access.Service, cam)
		require.NoError(t, err)
		return v.Last.Arrivals[0].Problem != ""
	}, 2*time.Minute, 20*time.Millisecond)
	assert.Equal(t, dynaddr.Unchanged, h.report(token, "198.51.100.7", "").Outcome)
	assert.Empty(t, h.arrived().Last.Arrivals[0].Problem)
	assert.Equal(t, "198.51.100.7", addressOf(h.live("heron")))
}

// A report does not wait for a zone that takes long to write: it goes ahead, and the rest is written after it.
func TestReportGoesAheadOfBulk(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	token := h.newHost()
	var records strings.Builder
	for i := range 400 {
		fmt.Fprintf(&records, "pile-%d A 192.0.2.%d\n", i, i%250)
	}
	h.define("heron-main", records.String()+"@ A 192.0.2.1")
	h.fault(`{"site":"4.1","delay_ms":150,"writes":true,"count":100}`)
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	require.Eventually(t, func() bool { v, _ := h.Overview.Sync(ctx, access.Service, list[0].ID); return v.Requests > 1 }, 2*time.Minute, 10*time.Millisecond)
	for i := range 3 {
		assert.Equal(t, dynaddr.Accepted, h.report(token, fmt.Sprintf("198.51.100.%d", i+1), "").Outcome)
		v := h.arrived()
		bulk, err := h.Overview.Sync(ctx, access.Service, list[0].ID)
		require.NoError(t, err)
		assert.False(t, bulk.State.Ended(), "the zone was still being written when the report was visible")
		assert.Less(t, v.Last.Arrivals[0].VisibleAt.Sub(v.Last.ReportedAt), 3*time.Second)
	}
	bulk := h.ended(list[0].ID)
	assert.Equal(t, wire.SyncDone, bulk.State, bulk.Message)
	syncs, err := h.Overview.Syncs(ctx, access.Service, zone)
	require.NoError(t, err)
	added := 0
	for _, v := range syncs {
		added += v.Added
	}
	// The reported set is added by whichever sync comes to read after the report: mostly its own, now and then the other.
	assert.Equal(t, 1+400+1, added, "each set once: the first one, those of the bulk, the reported one")
	assert.Equal(t, 402, h.live("heron").Len())
}

func TestHostsHaveToFit(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww CNAME @\npier ALIAS www\nsub NS ns.other.example.")
	add := func(name string, f dynaddr.Families) string {
		n, err := dnsname.Parse(name)
		require.NoError(t, err)
		_, err = h.Hosts.AddHost(ctx, access.Service, wire.NewHost{Name: n, V4: f.V4, V6: f.V6})
		if err == nil {
			return ""
		}
		return asProblem(t, err).Message
	}
	v4 := dynaddr.Families{V4: true}
	for name, want := range map[string]string{
		"www.saltmarsh-ferries.example":   "is a CNAME",
		"pier.saltmarsh-ferries.example":  "is an ALIAS",
		"a.sub.saltmarsh-ferries.example": "is delegated to other nameservers",
		"*.saltmarsh-ferries.example":     "is no host",
		"cam.other.example":               "lies in no zone",
		"cam.saltmarsh-ferries.example":   "",
	} {
		if got := add(name, v4); want == "" {
			assert.Empty(t, got)
		} else {
			assert.Contains(t, got, want)
		}
	}
	assert.Contains(t, add("cam.saltmarsh-ferries.example", v4), "there is one already")
	assert.Contains(t, add("cam2.saltmarsh-ferries.example", dynaddr.Families{}), "or both")
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "x", Text: "zones:\n  saltmarsh-ferries.example:\n    records: |\n      cam CNAME @\n"}}})
	assert.Contains(t, asProblem(t, err).Message, "follows a reported address here")
}

// reportWith reports an address with a token.
func (h *house) reportWith(token string, r hosts.AddressReport) (d dynaddr.Decision, err error) {
	caller, err := h.Users.Caller(ctx, token, r.Peer, access.Report)
	if err != nil {
		return d, err
	}
	return h.Hosts.Report(ctx, caller, r)
}
