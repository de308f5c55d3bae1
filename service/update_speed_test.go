package service_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/provider/update"
	"beacon/provider/update/nstest"
	"beacon/reach"
	"beacon/service"
	"beacon/wire"
)

// gauges returns so many records, one for each name, as lines of a zone file.
func gauges(n, last int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "gauge-%06d 300 A 198.51.%d.%d\n", i, i/200%200+1, i%200+last)
	}
	return b.String()
}

// peerUpdates has nsupdate write the same records, in messages of 500, and returns how long that took.
func peerUpdates(t *testing.T, at, zone, records string) time.Duration {
	t.Helper()
	host, port, _ := strings.Cut(at, ":")
	var b strings.Builder
	fmt.Fprintf(&b, "server %s %s\nzone %s\nkey hmac-sha256:%s %s\n", host, port, zone, nstest.KeyName, nstest.Secret)
	for i, line := range strings.Split(strings.TrimSpace(records), "\n") {
		label, rest, _ := strings.Cut(line, " ")
		fmt.Fprintf(&b, "update add %s.%s %s\n", label, zone, rest)
		if i%500 == 499 {
			b.WriteString("send\n")
		}
	}
	b.WriteString("send\nquit\n")
	file := filepath.Join(t.TempDir(), "updates")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	began := time.Now()
	out, err := exec.Command("nsupdate", "-v", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return time.Since(began)
}

// How fast records come to a standard nameserver, near and far, beside nsupdate, which sends without reading back. With BEACON_SPEED the figures are
// those of the full run.
func TestSpeedOfUpdates(t *testing.T) {
	near, far := 500, 150
	if os.Getenv("BEACON_SPEED") != "" {
		near, far = 20000, 5000
	} else {
		t.Parallel()
	}
	h := newHouseWith(t, func(s *service.Settings) { s.Request = 20 * time.Second })
	for i, c := range []struct {
		name    string
		records int
		away    time.Duration
	}{{"near", near, 0}, {"far", far, 120 * time.Millisecond}, {"few and far", 150, 120 * time.Millisecond}} {
		ours, theirs := dnsname.MustParse(fmt.Sprintf("ours-%d.example", i)), fmt.Sprintf("theirs-%d.example.", i)
		bare := dnsname.MustParse(fmt.Sprintf("bare-%d.example", i))
		knot := nstest.Knot(t, ours.String(), theirs, bare.String())
		at := knot.HostPort()
		if c.away > 0 {
			at = nstest.Far(t, at, c.away)
		}
		account := fmt.Sprintf("knot-%d", i)
		_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: account, Role: wire.RoleProvider, Kind: "update", Secret: nstest.Credential, Address: "dns://" + at})
		require.NoError(t, err)
		records := gauges(c.records, 1)
		text := fmt.Sprintf("zones:\n  %s:\n    providers: [%s]\n    records: |\n      %s\n", strings.TrimSuffix(ours.String(), "."), account, strings.ReplaceAll(strings.TrimSpace(records), "\n", "\n      "))
		_, err = h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "speed.beacon.yaml", Text: text}}})
		require.NoError(t, err)
		peer := peerUpdates(t, at, theirs, records)
		driver := driverAlone(t, at, bare, records)
		began := time.Now()
		synced, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: ours})
		require.NoError(t, err)
		v := h.ended(synced[0].ID)
		took := time.Since(began)
		require.Equal(t, wire.SyncDone, v.State, v.Message)
		assert.Equal(t, c.records, v.Added)
		rate := func(took time.Duration) string {
			return fmt.Sprintf("%.2f s, %.0f sets/s (%.2f of nsupdate's)", took.Seconds(), float64(c.records)/took.Seconds(), peer.Seconds()/took.Seconds())
		}
		t.Logf("%s, %d sets: nsupdate %s; the driver, which reads back, %s; the whole sync %s, %d requests", c.name, c.records, rate(peer), rate(driver), rate(took), v.Requests)
	}
}

// driverAlone has the driver write the same records, reading each batch back, and returns how long that took.
func driverAlone(t *testing.T, at string, zone dnsname.Name, records string) time.Duration {
	t.Helper()
	var steps change.List
	for line := range strings.Lines(records) {
		f := strings.Fields(line)
		steps = append(steps, change.Step{After: record.NewSet(dnsname.MustParse(f[0]+"."+zone.String()), record.A, 300, record.Data(f[3]))})
	}
	d := update.New(outcall.Client{Base: "dns://" + at, Secret: nstest.Credential, Dial: reach.Loopback().DialContext})
	ref := provider.ZoneRef{ID: zone.String(), Name: zone}
	caps, err := d.Describe(ctx, ref)
	require.NoError(t, err)
	began := time.Now()
	page, err := d.Read(ctx, ref, provider.ReadFrom{})
	require.NoError(t, err)
	for some := range slices.Chunk(steps, caps.BatchSize) {
		receipt, err := d.Apply(ctx, ref, change.Batch{Steps: some, Mark: page.Mark})
		require.NoError(t, err)
		require.True(t, receipt.Done)
	}
	return time.Since(began)
}

// How long a large zone takes to come to a nameserver, and one changed record of it. With BEACON_SPEED the zone has 100,000 records.
func TestSpeedInALargeZone(t *testing.T) {
	records := 2000
	if os.Getenv("BEACON_SPEED") != "" {
		records = 100_000
	} else {
		t.Parallel()
	}
	large := dnsname.MustParse("large.example")
	knot := nstest.Knot(t, large.String())
	h := newHouseWith(t, func(s *service.Settings) { s.Request, s.Lease = 20*time.Second, time.Minute })
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "knot", Role: wire.RoleProvider, Kind: "update", Secret: nstest.Credential, Address: knot.Address()})
	require.NoError(t, err)
	define := func(records string) {
		text := fmt.Sprintf("zones:\n  large.example:\n    providers: [knot]\n    records: |\n      %s\n", strings.ReplaceAll(strings.TrimSpace(records), "\n", "\n      "))
		_, err = h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "large.beacon.yaml", Text: text}}})
		require.NoError(t, err)
	}
	began := time.Now()
	define(gauges(records, 1))
	accepted := time.Since(began)
	ended := func(id uint64) (v wire.SyncView) {
		require.Eventually(t, func() bool {
			v, err = h.Overview.Sync(ctx, access.Service, id)
			require.NoError(t, err)
			return v.State.Ended()
		}, 3*time.Minute, 20*time.Millisecond)
		require.Equal(t, wire.SyncDone, v.State, v.Message)
		return v
	}
	began = time.Now()
	synced, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: large})
	require.NoError(t, err)
	v := ended(synced[0].ID)
	t.Logf("%d records: accepted after %.2f s, at the nameserver after another %.2f s, %d requests", records, accepted.Seconds(), time.Since(began).Seconds(), v.Requests)
	key := record.Key{Name: dnsname.MustParse("gauge-000007.large.example"), Type: record.A}
	var whole, answered []time.Duration
	for i := range 9 {
		began = time.Now()
		address := fmt.Sprintf("192.0.2.%d", i+1)
		out, err := h.Apply.PutSet(ctx, access.Service, wire.SetRequest{Zone: large, Key: key, TTL: 300, Data: []string{address}})
		require.NoError(t, err)
		answered = append(answered, time.Since(began))
		for {
			res, err := dns.Exchange(new(dns.Msg).SetQuestion(key.Name.String(), dns.TypeA), knot.HostPort())
			if err == nil && len(res.Answer) == 1 && res.Answer[0].(*dns.A).A.String() == address {
				break
			}
			require.Less(t, time.Since(began), time.Minute)
			time.Sleep(time.Millisecond)
		}
		whole = append(whole, time.Since(began))
		ended(out.Syncs[0].ID)
	}
	slices.Sort(whole)
	slices.Sort(answered)
	t.Logf("one changed record in %d: accepted after %d ms, at the nameserver after %d ms (median of %d; slowest %d ms)", records, answered[len(answered)/2].Milliseconds(),
		whole[len(whole)/2].Milliseconds(), len(whole), whole[len(whole)-1].Milliseconds())
}
