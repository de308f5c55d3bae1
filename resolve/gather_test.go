package resolve

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/zonefile"
	"beacon/reach"
	"beacon/resolve/peerstest"
)

// drawnZone returns lines of a zone by chance; usual is whether it has only names that many zones have.
func drawnZone(rng *rand.Rand, zone string, usual bool) (lines []string) {
	lines = []string{"@ A 192.0.2.1", "@ MX 10 mail", "mail A 192.0.2.2", `@ TXT "v=spf1 a:out-7.post.` + zone + ` -all"`, "out-7.post AAAA 2001:db8::7", `_dmarc TXT "v=DMARC1; p=none"`,
		"_submission._tcp SRV 0 5 587 mail", "_25._tcp.mail TLSA 3 1 1 " + strings.Repeat("ab", 32), "shop CNAME www", "www A 192.0.2.1", "lab NS ns1.lab", "ns1.lab A 192.0.2.9"}
	if usual {
		return lines
	}
	for i := range 1 + rng.IntN(6) {
		name := fmt.Sprintf("pier-%d%s", rng.IntN(1000), strings.Repeat(".deep", rng.IntN(3)))
		lines = append(lines, []string{name + " A 192.0.2." + fmt.Sprint(20+i), "*." + name + ` TXT "anything"`, name + " NS ns1.elsewhere.example.", name + " CAA 0 issue \"ca.example\""}[rng.IntN(4)])
	}
	return lines
}

// What sources claim is held against what real servers were loaded with: who says that nothing is missing has all of it, and nobody has what is not there.
func TestSourcesAreAsCompleteAsTheyClaim(t *testing.T) {
	if !peerstest.InNamespace(t) {
		return
	}
	l := peerstest.New(t)
	l.Gives = true
	type staged struct {
		zone  string
		truth record.Contents
		kind  string
		usual bool
	}
	var list []staged
	rng := rand.New(rand.NewPCG(7, 7))
	for i := range 24 {
		s := staged{zone: fmt.Sprintf("g%d.example.", i), kind: []string{"unsigned", "nsec", "nsec3"}[i%3], usual: i/3%2 == 0}
		text := peerstest.Zone(s.zone, 5, hosts, drawnZone(rng, s.zone, s.usual)...)
		read, faults := zonefile.Read(text, zonefile.Options{Origin: dnsname.MustParse(s.zone), File: "zone"})
		require.Empty(t, faults, text)
		s.truth = read.Contents().Filter(func(k record.Key) bool { return !gather.Plumbing(dnsname.MustParse(s.zone), k) })
		if s.kind != "unsigned" {
			signing := peerstest.Signing{NSEC3: s.kind == "nsec3", Salt: "aabb"}
			text = l.Sign(s.zone, text, l.Key(s.zone, signing), signing)
		}
		l.Serve(peerstest.East, s.zone, text)
		l.Serve(peerstest.West, s.zone, text)
		list = append(list, s)
	}
	l.Named(peerstest.East)
	l.NSD(peerstest.West)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	defer client.Close()
	s := &Sweeper{Client: client, Port: 53, Now: time.Now}
	whole := map[string]int{}
	for _, one := range list {
		zone := dnsname.MustParse(one.zone)
		for _, site := range []string{peerstest.East, peerstest.West} {
			steps := 0
			sources := s.Gather(context.Background(), Gathering{Zone: zone, Between: -1, Label: "nobody-has-this", Progress: func(gather.Kind, int, int) { steps++ },
				Servers: []evidence.Server{{Name: dnsname.MustParse("ns1.hosts.example"), Address: l.At(site)}}})
			got := sources[len(sources)-1]
			seen := got.Contents.Filter(func(k record.Key) bool { return !gather.Plumbing(zone, k) })
			more, missing, _ := record.Difference(one.truth, seen)
			about := fmt.Sprintf("%s, %s, usual names %v, at %s: %s %s", one.zone, one.kind, one.usual, site, got.Kind, got.Why)
			assert.Empty(t, more, about)
			if got.Claim == gather.Complete {
				assert.Empty(t, missing, about)
			}
			if site == peerstest.East {
				assert.Equal(t, gather.FromTransfer, got.Kind, about)
			} else {
				assert.Positive(t, steps)
				assert.Equal(t, gather.Failed, sources[0].Claim, about)
				assert.Contains(t, sources[0].Why, "transfers are not allowed")
			}
			if one.usual {
				assert.Empty(t, missing, about)
			}
			whole[fmt.Sprint(one.kind, " ", got.Kind, " ", got.Claim)]++
			if len(missing) > 0 && got.Claim == gather.Partial {
				whole["missing and said so"]++
			}
		}
	}
	t.Log(whole)
	assert.Equal(t, 24, whole["unsigned transfer complete"]+whole["nsec transfer complete"]+whole["nsec3 transfer complete"])
	assert.Equal(t, 8, whole["nsec walk complete"])
	assert.Equal(t, 4, whole["nsec3 asking complete"], "usual names only")
	assert.Equal(t, 8, whole["unsigned asking unknown"])
	assert.Equal(t, 4, whole["missing and said so"])
}
