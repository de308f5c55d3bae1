package resolve

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/reach"
)

// A transfer that is broken off takes no other question over TCP with it: those that are under way are answered.
func TestTransferBreaksNothingElse(t *testing.T) {
	const at = "127.0.8.9:46991"
	asked := make(chan struct{})
	serveAt(t, at, func(dns.ResponseWriter, *dns.Msg) {}, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		soa, _ := dns.NewRR("pier. 60 IN SOA a. b. 1 2 3 4 5")
		m.Answer = []dns.RR{soa}
		if q.Question[0].Qtype == dns.TypeAXFR {
			_ = rw.WriteMsg(m)
			return
		}
		close(asked)
		time.AfterFunc(100*time.Millisecond, func() { _ = rw.WriteMsg(m) }) // out of order (RFC 7766 section 7)
	})
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	defer client.Close()
	s := &Sweeper{Client: client, Port: 46991, Now: time.Now}
	w := &walk{Round: s.NewRound()}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	var group sync.WaitGroup
	group.Go(func() {
		_, err := client.AskTCP(ctx, netip.MustParseAddrPort(at), Question{Name: "pier.", Type: dns.TypeSOA})
		assert.NoError(t, err)
	})
	<-asked
	assert.True(t, w.gives(ctx, evidence.Server{Address: at}, dnsname.MustParse("pier")))
	group.Wait()
}
