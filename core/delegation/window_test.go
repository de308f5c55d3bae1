package delegation

import (
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnssec"
	"beacon/core/evidence"
)

// A TTL that was lowered counts once the larger value was last seen longer ago than itself.
func TestLoweredTTLCounts(t *testing.T) {
	lowered := func(at time.Duration, parents, own uint32) evidence.Sweep {
		s := sweep(at, oldSet, "plover.test")
		for i := range s.Parents {
			s.Parents[i].TTL = parents
		}
		for i := range s.Servers {
			s.Servers[i].NSTTL = own
		}
		return s
	}
	const day = 24 * time.Hour
	h := Advance(History{}, lowered(0, 345600, 345600))
	for d := range 30 {
		h = Advance(h, lowered(time.Duration(d+1)*day, 300, 300))
	}
	h = Advance(h, sweep(31*day, newSet, "plover.test"))
	moments := h.moments("d")
	require.NotEmpty(t, moments)
	assert.Equal(t, start.Add(31*day+time.Second+600*time.Second), moments[0].By)
}

// The DS is gone when it is gone at all parents: one that serves it again begins the wait again.
func TestReturningDSResetsItsMoment(t *testing.T) {
	ds, err := dns.NewRR(string(domain.String()) + " 3600 IN DS 12345 13 2 0123456789ABCDEF0123456789ABCDEF0123456789ABCDEF0123456789ABCDEF")
	require.NoError(t, err)
	with := func(at time.Duration, parents ...bool) evidence.Sweep {
		s := sweep(at, oldSet, "plover.test")
		s.Anchors = dnssec.Records{ds} // signatures are judged
		for i, has := range parents {
			if has {
				s.Parents[i].DS = dnssec.Records{ds}
			}
		}
		return s
	}
	h := Advance(History{}, with(0, true, true))
	h = Advance(h, with(time.Minute, false, false))
	h = Advance(h, with(2*time.Minute, true, false))
	h = Advance(h, with(time.Hour, false, false))
	moment, changed := h.DS.moment("d")
	require.True(t, changed)
	assert.Equal(t, start.Add(time.Hour+time.Second+3600*time.Second), moment.By)
}

// What has settled long ago is forgotten: nobody is asked about it any more.
func TestWhatSettledIsForgotten(t *testing.T) {
	h := moved()
	for d := range 10 {
		s := sweep(time.Duration(d+1)*24*time.Hour, newSet, "heron.test")
		s.Servers = s.Servers[2:]
		h = Advance(h, s)
	}
	assert.Nil(t, h.Former)
}
