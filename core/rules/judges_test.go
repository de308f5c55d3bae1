package rules

import (
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// Zones that we write load without a word in two authoritative servers' own checkers, and what one of them prints
// canonically we read as the same zone.
func TestOtherServersAgree(t *testing.T) {
	zone, origin := origin, strings.TrimSuffix(origin.String(), ".")
	for seed := range uint64(25) {
		text := healthy(rand.New(rand.NewPCG(seed, 9))) + "inner ALIAS @\nouter 120 ALIAS web.harbour.example.\n"
		z, faults := zonefile.Read(text, zonefile.Options{Origin: zone})
		require.Empty(t, faults)
		contents := z.Contents().Resolve(func(_, _ dnsname.Name) (record.Followed, bool) {
			return record.Followed{Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.77"), netip.MustParseAddr("2001:db8::77")}, TTL: 90}, true
		})
		require.Empty(t, contents.Aliases())
		file := filepath.Join(t.TempDir(), "zone")
		require.NoError(t, os.WriteFile(file, []byte(zonefile.Text(zone, contents)), 0o600))
		printed := file + ".printed"

		said, err := exec.Command("named-compilezone", "-i", "local", "-s", "full", "-o", printed, origin, file).CombinedOutput()
		require.NoError(t, err, "%s", said)
		for _, line := range strings.Split(strings.TrimSpace(string(said)), "\n") {
			assert.Regexp(t, `loaded serial|^OK$|dump zone`, line)
		}
		said, err = exec.Command("kzonecheck", "-o", origin, file).CombinedOutput()
		assert.NoError(t, err, "%s", said)
		assert.NotContains(t, strings.ToLower(string(said)), "warning")

		back, err := os.ReadFile(printed)
		require.NoError(t, err)
		again, faults := zonefile.Read(string(back), zonefile.Options{Origin: zone})
		require.Empty(t, faults)
		assert.Equal(t, contents.Records(), again.Contents().Records(), "seed %d", seed)
	}
}
