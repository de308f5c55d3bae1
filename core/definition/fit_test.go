package definition

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever zones are made with kits, what Fit and Write make of their records alone is read as the same records.
func TestFitKeepsContents(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		host := rapid.SampledFrom([]string{"mx1.post.example.", "mail", "@", "a.b"}).Draw(rt, "host")
		policy := rapid.SampledFrom([]string{"none", "quarantine", "reject"}).Draw(rt, "policy")
		first := rapid.IntRange(1, 100).Draw(rt, "first")
		greeting := rapid.StringMatching(`[a-z ]{1,20}`).Draw(rt, "greeting")
		ttl := rapid.SampledFrom([]string{"", "    ttl: 5m\n", "    ttl: 1d\n"}).Draw(rt, "ttl")
		own := rapid.SampledFrom([]string{"", "    records: |\n      gauge A 198.51.100.1\n", "    records: |\n      @ MX 99 other.example.\n      gauge 60 A 198.51.100.1\n"}).Draw(rt, "own")
		use := rapid.SampledFrom([]string{
			fmt.Sprintf("{post-office: {policy: %s, host: '%s', first: %d}}", policy, host, first),
			fmt.Sprintf("{site: {greeting: '%s'}}", greeting),
			"ground",
		}).Draw(rt, "use")
		d, faults := Read(files("k", kitted+fmt.Sprintf("  drawn.example:\n%s    kits: [%s]\n%s", ttl, use, own)))
		if len(faults) > 0 {
			rt.Skipf("%v", faults)
		}
		z := d.Zones[len(d.Zones)-1]
		fitted := Fit(Zone{Name: z.Name, Contents: z.Contents}, d.Kits)
		text := Write([]Zone{fitted}, d.Kits)
		back, faults := Read(files("f", text))
		require.Empty(rt, faults, text)
		require.True(rt, back.Zones[0].Contents.Equal(z.Contents), text)
	})
}
