package resolve

import (
	"context"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/reach"
)

// mixed makes an answer with records of all sorts in all sections, the same for the same question and seed.
func mixed(q *dns.Msg, seed uint64) *dns.Msg {
	r := rand.New(rand.NewPCG(seed, uint64(q.Question[0].Qtype)))
	m := new(dns.Msg).SetReply(q)
	m.Authoritative = r.IntN(2) == 0
	if r.IntN(4) == 0 {
		m.Rcode = r.IntN(6)
	}
	name := dns.CanonicalName(q.Question[0].Name)
	owners := []string{name, name, name, ".", "h." + name, "x.test."}
	for _, section := range []*[]dns.RR{&m.Answer, &m.Ns, &m.Extra} {
		for range r.IntN(5) {
			owner := owners[r.IntN(len(owners))]
			switch r.IntN(8) {
			case 0, 1, 6, 7:
				*section = append(*section, line("%s 60 NS %s", owner, owners[r.IntN(len(owners))]))
			case 2:
				*section = append(*section, line("%s 60 A 127.0.0.1", owner))
			case 3:
				*section = append(*section, line("%s 60 SOA h.%s k.%s 1 7200 3600 1209600 60", owner, name, name))
			case 4:
				*section = append(*section, line("%s 60 CNAME %s", owner, owners[r.IntN(len(owners))]))
			default:
				*section = append(*section, line("%s 60 DS 12345 13 2 %064d", owner, 7))
			}
		}
	}
	if q.IsEdns0() != nil && r.IntN(2) == 0 {
		m.SetEdns0(1232, false)
	}
	return m
}

// Whatever records stand wherever in the answers, a sweep ends and is judged; a brief one hears the same of parents that refer as a whole one.
func TestSweepsOfMixedAnswers(t *testing.T) {
	var now atomic.Uint64
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) { _ = rw.WriteMsg(mixed(q, now.Load())) })
	c, err := NewClient(reach.Loopback(), Options{PerSecond: -1, Timeout: 300 * time.Millisecond})
	require.NoError(t, err)
	defer c.Close()
	s := &Sweeper{Client: c, Hints: Hints{{Name: dnsname.MustParse("x.test"), Address: at.String()}}, Port: at.Port(), Now: time.Now}
	domain := dnsname.MustParse("pier")
	asksNS, referred := new(dns.Msg).SetQuestion("pier.", dns.TypeNS), 0
	for seed := range uint64(1500) {
		now.Store(seed)
		whole, brief := s.Sweep(context.Background(), domain, Scope{}), s.Sweep(context.Background(), domain, Scope{Brief: true})
		for _, sweep := range []evidence.Sweep{whole, brief} {
			r := delegation.Judge(delegation.Plan{Domain: domain}, delegation.Advance(delegation.History{}, sweep), sweep)
			require.NotEmpty(t, r.Verdict, "seed %d", seed)
		}
		require.Equal(t, whole.Failure, brief.Failure, "seed %d", seed)
		require.Len(t, brief.Parents, len(whole.Parents), "seed %d", seed)
		if len(mixed(asksNS, seed).Answer) > 0 { // a brief sweep looks at nothing else then
			continue
		}
		for i, p := range brief.Parents {
			w := whole.Parents[i]
			w.At, p.At = time.Time{}, time.Time{}
			w.AskedDS, w.DS = p.AskedDS, p.DS // a brief one does not ask for DS
			require.Equal(t, w, p, "seed %d", seed)
			if p.Answer == evidence.Referral {
				referred++
			}
		}
	}
	assert.Greater(t, referred, 50)
	t.Logf("%d referrals", referred)
}
