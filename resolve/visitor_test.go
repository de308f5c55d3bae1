package resolve

import (
	"context"
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/gather"
	"beacon/core/record"
)

// A nameserver that answers by place is asked for visitors of other networks, and says so (RFC 7871); one that ignores the option is not suspected.
func TestAnswersByPlace(t *testing.T) {
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		m.Authoritative = true
		asked := q.Question[0]
		name := dns.CanonicalName(asked.Name)
		add := func(line string) {
			rr, err := dns.NewRR(line)
			if err == nil && rr.Header().Rrtype == asked.Qtype {
				m.Answer = append(m.Answer, rr)
			}
		}
		switch name {
		case "www.a.example.":
			address := "192.0.2.1"
			if opt := q.IsEdns0(); opt != nil {
				for _, o := range opt.Option {
					if visitor, ok := o.(*dns.EDNS0_SUBNET); ok && asked.Qtype == dns.TypeA {
						seen := *visitor
						seen.SourceScope = 24
						m.SetEdns0(1232, true).IsEdns0().Option = []dns.EDNS0{&seen}
						if seen.Address.String() == "203.0.113.0" {
							address = "192.0.2.2"
						}
					}
				}
			}
			add("www.a.example. 300 IN A " + address)
		case "post.a.example.":
			add("post.a.example. 300 IN A 192.0.2.3")
		case "a.example.":
			add("a.example. 300 IN NS ns1.old.test.")
		default:
			m.Rcode = dns.RcodeNameError
		}
		if len(m.Answer) == 0 {
			soa, _ := dns.NewRR("a.example. 300 IN SOA ns1.old.test. admin.old.test. 7 3600 900 604800 60")
			m.Ns = []dns.RR{soa}
		}
		_ = rw.WriteMsg(m)
	})
	zone := dnsname.MustParse("a.example")
	s := &Sweeper{Client: newClient(t)}
	g := Gathering{Zone: zone, Servers: []evidence.Server{{Name: dnsname.MustParse("ns1.old.test"), Address: at.String()}}, Names: []dnsname.Name{dnsname.MustParse("post.a.example")}, Label: "nobody-has-this", Between: 1}
	list := s.Gather(context.Background(), g)
	got := list[len(list)-1]
	require.Len(t, got.Doubts, 1, "%+v", list)
	assert.Equal(t, gather.Doubt{Key: record.Key{Name: dnsname.MustParse("www.a.example"), Type: record.A}, Kind: gather.ByPlace, TTL: 300, Data: []record.Data{"192.0.2.1", "192.0.2.2"}}, got.Doubts[0])

	for _, cookie := range [][]byte{nil, []byte("12345678")} { // as others read it
		var p packed
		require.NoError(t, p.pack(Question{Name: "a.example.", Type: dns.TypeA, Visitor: netip.MustParsePrefix("198.51.100.77/20")}, 7, true, cookie, nil, true))
		m := new(dns.Msg)
		require.NoError(t, m.Unpack(p.octets))
		options := m.IsEdns0().Option
		require.Len(t, options, 1+min(len(cookie), 1))
		visitor := options[len(options)-1].(*dns.EDNS0_SUBNET)
		assert.Equal(t, "198.51.96.0/20/0", visitor.String())
	}
}
