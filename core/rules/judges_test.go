package rules

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/zonefile"
)

// Zones that we write load without a word in two authoritative servers' own checkers, and what one of them prints
// canonically we read as the same zone.
func TestOtherServersAgree(t *testing.T) {
	zone, origin := origin, strings.TrimSuffix(origin.String(), ".")
	for seed := range uint64(25) {
		z, faults := zonefile.Read(healthy(rand.New(rand.NewPCG(seed, 9))), zonefile.Options{Origin: zone})
		require.Empty(t, faults)
		file := filepath.Join(t.TempDir(), "zone")
		require.NoError(t, os.WriteFile(file, []byte(zonefile.Text(zone, z.Contents())), 0o600))
		printed := file + ".printed"

		said, err := exec.Command("named-compilezone", "-i", "local", "-s", "full", "-o", printed, origin, file).CombinedOutput()
		require.NoError(t, err, "%s", said)
		for _, line := range strings.Split(strings.TrimSpace(string(said)), "\n") {
			assert.Regexp(t, `loaded serial|^OK$|dump zone`, line)
		}
		said, err = exec.Command("kzonecheck", "-o", origin, file).CombinedOutput()
		assert.NoError(t, err, "%s", said)
		assert.NotContains(t, strings.ToLower(string(said)), "warning")

		text, err := os.ReadFile(printed)
		require.NoError(t, err)
		again, faults := zonefile.Read(string(text), zonefile.Options{Origin: zone})
		require.Empty(t, faults)
		assert.Equal(t, z.Contents().Records(), again.Contents().Records(), "seed %d", seed)
	}
}
