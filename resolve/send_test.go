package resolve

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/reach"
)

// waitsFor returns how many questions a client still knows of.
func waitsFor(c *Client) (n int) {
	for _, f := range []*family{&c.four, &c.six} {
		f.mu.Lock()
		n += len(f.queue)
		for _, s := range f.sockets {
			n += len(s.waiting)
		}
		f.mu.Unlock()
	}
	return n
}

// Questions that are sent together do not touch each other: each gets its own answer, whether others are given up before they are sent or
// while they are under way, or may not be sent at all.
func TestQuestionsSentTogether(t *testing.T) {
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		m.Answer = append(m.Answer, line("%s 60 TXT %q", dns.CanonicalName(q.Question[0].Name), dns.CanonicalName(q.Question[0].Name)))
		_ = rw.WriteMsg(m)
	})
	c, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	defer c.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	gone, leave := context.WithCancel(ctx)
	leave()
	elsewhere := netip.MustParseAddrPort("192.0.2.1:53")
	var group sync.WaitGroup
	for i := range 24 {
		group.Go(func() {
			for j := range 40 {
				q := Question{Name: fmt.Sprintf("n%d-%d.pier.test.", i, j), Type: dns.TypeTXT}
				switch j % 4 {
				case 0:
					var a asking
					if assert.NoError(t, c.begin(ctx, &a, c.server(at), q)) {
						a.abandon()
					}
				case 1:
					var a asking
					if assert.NoError(t, c.begin(ctx, &a, c.server(at), q)) {
						_, err := a.end(gone)
						assert.True(t, err == nil || err == context.Canceled, "%v", err)
					}
				case 2:
					_, err := c.Ask(ctx, elsewhere, q)
					assert.ErrorIs(t, err, reach.ErrRefused)
				default:
					r, err := c.Ask(ctx, at, q)
					if assert.NoError(t, err) && assert.Len(t, r.Answer, 1) {
						assert.Equal(t, []string{q.Name}, r.Answer[0].(*dns.TXT).Txt)
					}
				}
			}
		})
	}
	group.Wait()
	assert.Eventually(t, func() bool { return waitsFor(c) == 0 }, 2*time.Minute, 5*time.Millisecond, "nothing is left over")
	assert.Empty(t, c.server(at).places, "all places are free again")
	assert.Empty(t, c.server(elsewhere).places)
}

// Closing a client ends the questions of those who still ask.
func TestCloseWhileAsking(t *testing.T) {
	at := serve(t, func(dns.ResponseWriter, *dns.Msg) {})
	c, err := NewClient(reach.Loopback(), Options{PerSecond: -1, Timeout: 200 * time.Millisecond})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() {
			for {
				if _, err := c.Ask(ctx, at, Question{Name: fmt.Sprintf("n%d.pier.test.", i), Type: dns.TypeA}); err != nil && err != ErrNoAnswer {
					return
				}
			}
		})
	}
	time.Sleep(50 * time.Millisecond)
	c.Close()
	group.Wait()
	assert.NoError(t, ctx.Err(), "nobody waited for what cannot come")
}
