package resolve

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
)

// Servers that drop what comes too fast, as registries do, are judged right by whoever asks politely, which is the default; who does not
// ask politely gets it wrong, so the politeness is what does it.
func TestServersThatLimitAnswers(t *testing.T) {
	const domains = 120
	answered := func(o Options) (settled, asked int) {
		limiter := rate.NewLimiter(130, 130)
		var count atomic.Int64
		at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
			count.Add(1)
			if !limiter.Allow() {
				return
			}
			m := new(dns.Msg).SetReply(q)
			name := dns.CanonicalName(q.Question[0].Name)
			switch {
			case q.Question[0].Qtype == dns.TypeSOA:
				m.Authoritative = true
				m.Answer = append(m.Answer, line("%s 60 SOA h.%s k.%s 1 7200 3600 1209600 60", name, name, name))
			case strings.HasPrefix(name, "pier"):
				m.Ns = append(m.Ns, line("%s 60 NS h.%s", name, name))
				m.Extra = append(m.Extra, line("h.%s 60 A 127.0.0.1", name))
			}
			_ = rw.WriteMsg(m)
		})
		o.Timeout = 200 * time.Millisecond
		c, err := NewClient(reach.Loopback(), o)
		require.NoError(t, err)
		defer c.Close()
		s := &Sweeper{Client: c, Hints: Hints{{Name: dnsname.MustParse("x.test"), Address: at.String()}}, Port: at.Port(), Now: time.Now}
		round := s.NewRound()
		var good atomic.Int64
		var group sync.WaitGroup
		places := make(chan struct{}, 32)
		for i := range domains {
			places <- struct{}{}
			group.Go(func() {
				defer func() { <-places }()
				name := dnsname.MustParse(fmt.Sprintf("pier-%03d", i))
				sweep := round.Sweep(context.Background(), name, Scope{Brief: true})
				if delegation.Judge(delegation.Plan{Domain: name}, delegation.Advance(delegation.History{}, sweep), sweep).Verdict == delegation.Settled {
					good.Add(1)
				}
			})
		}
		group.Wait()
		return int(good.Load()), int(count.Load())
	}
	polite, asked := answered(Options{})
	assert.Equal(t, domains, polite)
	t.Logf("polite: %d of %d right, %d questions seen", polite, domains, asked)
	rude, asked := answered(Options{PerSecond: -1, PerServer: 1024})
	assert.Less(t, rude, domains, "no cap was needed")
	t.Logf("without a cap: %d of %d right, %d questions seen", rude, domains, asked)
}

// Whoever begins many questions before waiting for any does not hold up others that do the same, however few places a server has; and no more
// than those are on their way at a time.
func TestPlacesAreNotHeldWhileWaitingForMore(t *testing.T) {
	const mostAtOnce = 4
	var now, most atomic.Int64
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		n := now.Add(1)
		for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
		}
		time.Sleep(2 * time.Millisecond)
		now.Add(-1)
		_ = rw.WriteMsg(new(dns.Msg).SetReply(q))
	})
	c, err := NewClient(reach.Loopback(), Options{PerSecond: -1, PerServer: mostAtOnce})
	require.NoError(t, err)
	defer c.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var group sync.WaitGroup
	for range 40 {
		group.Go(func() {
			var ways [6]asking
			for i := range ways {
				if !assert.NoError(t, c.begin(ctx, &ways[i], c.server(at), Question{Name: fmt.Sprintf("n%d.pier.test.", i), Type: dns.TypeA})) {
					return
				}
			}
			for i := range ways {
				if i == 3 {
					ways[i].abandon()
					continue
				}
				_, err := ways[i].end(ctx)
				assert.NoError(t, err)
			}
		})
	}
	group.Wait()
	assert.LessOrEqual(t, most.Load(), int64(mostAtOnce))
	assert.Empty(t, c.server(at).places, "all places are free again")
}
