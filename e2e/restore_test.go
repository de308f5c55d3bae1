package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
)

// heldView is the hold as the API shows it.
type heldView struct {
	Held                           bool
	Reason                         string
	Total, Newer, Unseen, Released int
	Placements                     []struct {
		Zone, Account string
		Newer, Ours   int
		Released      bool
	}
}

// A backup made under load is restored on an empty machine after the providers went on: nothing is written before a user says so, and what
// changed outside is shown as newer there.
func TestRestoredServiceIsHeld(t *testing.T) {
	t.Parallel()
	zones := 6
	if soak() {
		zones = 100
	}
	s := stage(t, options(t, 1, fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\ndrift: {every: 1s}\nchecks: {settling: 1h, settled: 1h, brief: 0s, margin: 1s}\n", lease)))
	a := signedIn(t, s)
	text := "zones:\n"
	for i := range zones {
		text += fmt.Sprintf("  berth-%03d.example:\n    providers: [heron-main]\n    drift: revert\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n", i)
	}
	a.define(text)
	name := func(i int) string { return fmt.Sprintf("berth-%03d.example", i) }
	ids := make([]int, zones)
	for i := range zones {
		ids[i] = a.syncAt(name(i), "heron-main")
	}
	for _, id := range ids {
		a.synced(id)
	}
	stop := make(chan struct{})
	var load sync.WaitGroup
	load.Go(func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
				a.define(fmt.Sprintf("zones:\n  load.example:\n    records: |\n      n TXT \"%d\"\n", n))
			}
		}
	})
	archive := filepath.Join(t.TempDir(), "backup.zip")
	settings := filepath.Join(s.Dir, "beacon.yaml")
	out, err := exec.Command(program, "backup", archive, "--settings", settings).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Regexp(t, `does not hold the key \S*beacon.key`, string(out))
	close(stop)
	load.Wait()

	// The providers go on: half of the zones are changed by this service, half at the provider's own site.
	p := targetAt(t, s, "heron")
	changed := map[string]record.Data{}
	for i := range zones {
		data := record.Data(fmt.Sprintf("198.51.100.%d", i+1))
		changed[name(i)] = data
		if i%2 == 0 {
			a.define(fmt.Sprintf("zones:\n  %s:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n      www A %s\n", name(i), data))
			a.synced(a.syncAt(name(i), "heron-main"))
		}
	}
	s.KillService()
	for i := range zones {
		if i%2 == 1 {
			putAt(t, p.driver, name(i), changed[name(i)])
		}
	}
	writes := func() (n int) {
		for i := range zones {
			n += len(journalOf(t, s.Site("control"), "heron", name(i)))
		}
		return n
	}
	before := writes()

	root, err := sql.Open("mysql", "root@unix("+filepath.Join(s.Dir, "db", "socket")+")/")
	require.NoError(t, err)
	defer root.Close()
	for _, statement := range []string{"DROP DATABASE beacon", "CREATE DATABASE beacon"} { // an empty machine
		_, err := root.Exec(statement)
		require.NoError(t, err)
	}
	require.NoError(t, os.RemoveAll(filepath.Join(s.Dir, "beacon.key.mark")))
	out, err = exec.Command(program, "restore", archive, "--settings", settings).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "It is held")
	require.NoError(t, s.StartService(context.Background()))
	a = signedIn(t, s)
	var held heldView
	require.Eventually(t, func() bool { a.ask("GET", "/hold", nil, &held); return held.Unseen == 0 }, 2*time.Minute, 200*time.Millisecond)
	require.True(t, held.Held)
	assert.Contains(t, held.Reason, "restored from an archive")
	assert.Equal(t, zones, held.Newer, "all that changed is shown as newer outside")
	for _, p := range held.Placements {
		var number int
		_, err := fmt.Sscanf(p.Zone, "berth-%d", &number)
		require.NoError(t, err)
		assert.Equal(t, []int{1, 1 - number%2}, []int{p.Newer, p.Ours}, "%s: the journal beside the key says who wrote it", p.Zone)
	}
	a.ask("POST", "/zones/"+name(0)+"/syncs", map[string]any{"account": "heron-main"}, nil) // asked for, and waiting
	time.Sleep(3 * time.Second)
	assert.Equal(t, before, writes(), "nothing was written")

	// A user keeps what is outside, and releases that zone; then the rest.
	a.ask("POST", "/zones/"+name(1)+"/adoptions", map[string]any{"account": "heron-main"}, nil)
	a.ask("POST", "/hold/release", map[string]any{"zone": name(1), "account": "heron-main"}, &held)
	assert.Equal(t, 1, held.Released)
	a.synced(a.syncAt(name(1), "heron-main"))
	assert.Equal(t, before, writes(), "what was kept needs no write")
	a.ask("POST", "/hold/release", map[string]any{"all": true}, &held)
	assert.False(t, held.Held)
	require.Eventually(t, func() bool { return writes() > before }, 2*time.Minute, 100*time.Millisecond, "zones whose settings say so are reverted now")

	// The database goes back while its mark stays: the service begins held by itself.
	s.KillService()
	for _, statement := range []string{"DROP DATABASE beacon", "CREATE DATABASE beacon"} {
		_, err := root.Exec(statement)
		require.NoError(t, err)
	}
	out, err = exec.Command(program, "restore", archive, "--settings", settings).CombinedOutput()
	require.NoError(t, err, string(out))
	for _, statement := range []string{"DELETE FROM beacon.hold"} { // as if it had been put back by other means
		_, err := root.Exec(statement)
		require.NoError(t, err)
	}
	require.NoError(t, s.StartService(context.Background()))
	a = signedIn(t, s)
	require.Eventually(t, func() bool { a.ask("GET", "/hold", nil, &held); return held.Held }, 2*time.Minute, 50*time.Millisecond)
	assert.Contains(t, held.Reason, "went back")
}

// putAt sets the address of www in a zone past the service.
func putAt(t *testing.T, d provider.Driver, zone string, data record.Data) {
	t.Helper()
	apex := dnsname.MustParse(zone)
	z, there, err := provider.FindZone(context.Background(), d, apex)
	require.NoError(t, err)
	require.True(t, there)
	live, err := provider.ReadAll(context.Background(), d, z.Ref, provider.State{})
	require.NoError(t, err)
	www, err := apex.Child("www")
	require.NoError(t, err)
	was := live.Contents.Get(record.Key{Name: www, Type: record.A})
	_, err = d.Apply(context.Background(), z.Ref, change.Batch{Steps: change.List{{Before: was, After: record.NewSet(www, record.A, was.TTL, data)}}})
	require.NoError(t, err)
}
