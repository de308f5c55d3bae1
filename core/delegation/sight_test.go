package delegation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
)

// without6 is what a machine sees that has no IPv6: a parent more that stays silent, and so do all nameservers there.
func without6(s evidence.Sweep) evidence.Sweep {
	s.Parents = append(s.Parents, evidence.ParentAnswer{Server: evidence.Server{Name: dnsname.MustParse("b.nic.example"), Address: "[2001:db8::53]:53"}, Answer: evidence.Silent, Problem: "network is unreachable"})
	for i, a := range s.Servers {
		if evidence.AddressOf(a.Server).Is6() {
			s.Servers[i] = evidence.ServerAnswer{Server: a.Server, Answer: evidence.Silent, Problem: "network is unreachable"}
		}
	}
	return s
}

// From a machine without IPv6 a change is followed as from any other, and nothing is said of servers that only this machine cannot reach.
func TestMachineWithoutIPv6(t *testing.T) {
	h := Advance(History{}, without6(sweep(0, oldSet, "plover.test")))
	s := without6(sweep(time.Hour, newSet, "plover.test"))
	h = Advance(h, s)
	assert.Equal(t, moved().moments("d"), h.moments("d"), "the times are the same")
	r := Judge(Plan{Domain: domain, Wanted: newSet}, h, s)
	assert.Equal(t, Settling, r.Verdict)
	assert.NotContains(t, codes(r), "old-servers-stopped")
	assert.NotContains(t, codes(r), "nameserver-silent")
	assert.NotContains(t, codes(r), "parent-silent")
	assert.Contains(t, codes(r), "no-ipv6-here")
	assert.Len(t, r.Parents, 3, "all that was asked is shown")

	only6 := without6(sweep(0, newSet[1:], "heron.test"))
	h = Advance(History{}, only6)
	require.True(t, evidence.AddressOf(only6.Servers[3].Server).Is6())
	assert.Equal(t, Unknown, Judge(Plan{Domain: domain}, h, only6).Verdict, "nothing can be said of servers that have IPv6 alone")
}

// Where anything answers over IPv6, silence there is the server's.
func TestSilentOverIPv6Alone(t *testing.T) {
	s := without6(sweep(0, newSet, "heron.test"))
	s.Parents[2] = evidence.ParentAnswer{Server: s.Parents[2].Server, At: s.Ended, Answer: evidence.Referral, NS: newSet, TTL: 900}
	r := Judge(Plan{Domain: domain}, Advance(History{}, s), s)
	assert.Equal(t, NeedsAction, r.Verdict)
	assert.Contains(t, codes(r), "nameserver-silent")
}
