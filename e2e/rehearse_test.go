package e2e

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A handover is played through in a practice world of its own, beside the service that has the domain, which nothing happens to.
func TestRehearse(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, ""))
	a := signedIn(t, s)
	a.define("zones:\n  tides.example:\n    providers: [heron-main]\n    ttl: 300\n    records: |\n      @ A 192.0.2.1\n      www CNAME @\n      *.quay A 192.0.2.3\n      @ MX 10 mail.post.example.\n")
	before := len(a.logbook())
	cmd := exec.Command(program, "handover", "rehearse", "tides.example", "--grace", "0s")
	cmd.Env = append(os.Environ(), "BEACON_ADDRESS="+s.Address(), "BEACON_TOKEN="+a.token)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, step := range []string{"Sync the zone to heron-main", "Change the nameservers at gannet-main", "Remove the old zone from plover-old", "The handover is done", "answers of resolvers, 0 wrong"} {
		assert.Contains(t, string(out), step)
	}
	assert.Len(t, a.logbook(), before, "nothing happened here")
}

// logbook returns what users did, of the newest lines of the logbook.
func (a *asker) logbook() (list []string) {
	var page struct {
		Items []struct{ Actor, Text string }
	}
	a.ask("GET", "/logbook?limit=200", nil, &page)
	for _, e := range page.Items {
		if e.Actor == "admin" {
			list = append(list, e.Text)
		}
	}
	return list
}
