package update

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/provider"
)

// fudge is by how much clocks may differ (RFC 8945 section 10), in seconds.
const fudge = 300

// connect opens a connection that ends with the context's time.
func (d *Driver) connect(ctx context.Context, asked, zone string) (*dns.Conn, error) {
	if d.wrong != nil {
		return nil, d.fail(asked, zone, outcall.Refused, outcall.NotSent, d.wrong.Error())
	}
	if ctx.Err() != nil {
		return nil, d.fail(asked, zone, outcall.Unavailable, outcall.NotSent, "broken off")
	}
	conn := d.spare.take()
	if conn == nil {
		var err error
		if conn, err = d.client.Dial(ctx, "tcp", d.server); err != nil {
			return nil, d.fail(asked, zone, outcall.NotReached(err), outcall.NotSent, plainReason(err))
		}
	}
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	} else {
		_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	}
	return &dns.Conn{Conn: conn, TsigSecret: map[string]string{d.key.name: d.key.secret}}, nil
}

// keptOpen is how long a connection is kept open for the next request: so short that no server closes it meanwhile.
const keptOpen = time.Second

// spare is a connection that a request left open for the next one (RFC 7766 section 6.2.1).
type spare struct {
	mu   sync.Mutex
	conn net.Conn
	end  *time.Timer
}

// take returns the connection, if there is one.
func (s *spare) take() net.Conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	conn := s.conn
	if s.conn = nil; conn == nil || !s.end.Stop() {
		return nil // the timer closes it
	}
	return conn
}

// put keeps a connection on which no answer is due, in place of another.
func (s *spare) put(c *dns.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != nil && s.end.Stop() {
		s.conn.Close()
	}
	conn := c.Conn
	s.conn, s.end = conn, time.AfterFunc(keptOpen, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.conn == conn {
			s.conn = nil
		}
		conn.Close()
	})
}

// fresh forgets the signature of the last exchange, which the library would sign over.
func (d *Driver) fresh(conn *dns.Conn) *dns.Conn {
	return &dns.Conn{Conn: conn.Conn, TsigSecret: conn.TsigSecret}
}

func plainReason(err error) string {
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, context.DeadlineExceeded) {
		return "no answer in time"
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err.Error()
	}
	return err.Error()
}

// exchange makes one signed request. outcome is what a broken connection leaves behind.
func (d *Driver) exchange(ctx context.Context, conn *dns.Conn, m *dns.Msg, asked string, outcome outcall.Outcome) (res *dns.Msg, err error) {
	zone := m.Question[0].Name
	start := time.Now()
	defer func() {
		rcode := 0
		if res != nil {
			rcode = res.Rcode
		}
		d.observe(ctx, asked, zone, start, rcode, err)
	}()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	m.SetTsig(d.key.name, d.key.algorithm, fudge, time.Now().Unix())
	conn = d.fresh(conn)
	if ctx.Err() != nil {
		return nil, d.fail(asked, zone, outcall.Unavailable, outcall.NotSent, "broken off")
	}
	if err := conn.WriteMsg(m); err != nil {
		return nil, d.fail(asked, zone, outcall.Unavailable, outcome, plainReason(err))
	}
	res, err = conn.ReadMsg()
	if res != nil && res.Id == m.Id {
		if told := d.told(res, asked, zone, outcome, err); told != nil {
			return res, told
		}
	}
	switch {
	case err != nil:
		return nil, d.fail(asked, zone, outcall.Unavailable, outcome, plainReason(err))
	case res.Id != m.Id || !res.Response:
		return nil, d.fail(asked, zone, outcall.Unavailable, outcome, "what came back is no answer to what was asked")
	case res.IsTsig() == nil:
		return nil, d.fail(asked, zone, outcall.Unavailable, outcome, "the answer is not signed")
	}
	return res, nil
}

// exchangeAll makes several signed requests that change nothing, one behind the other without waiting, and returns the answers in the order of the
// requests (RFC 7766 section 6.2.1.1: they may come in any order). The logbook has them as one. outcome is that of what was done before, where it
// fails.
func (d *Driver) exchangeAll(ctx context.Context, conn *dns.Conn, zone dnsname.Name, questions []*dns.Msg, asked string, outcome outcall.Outcome) (answers []*dns.Msg, err error) {
	start := time.Now()
	defer func() { d.observe(ctx, asked, fmt.Sprintf("%s (%d sets)", zone, len(questions)), start, 0, err) }()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	fail := func(said string) error {
		return d.fail(asked, zone.String(), outcall.Unavailable, outcome, said)
	}
	type sent struct {
		at  int
		mac string
	}
	open := map[uint16]sent{}
	for i, m := range questions {
		for m.Id = dns.Id(); ; m.Id = dns.Id() {
			if _, taken := open[m.Id]; !taken {
				break
			}
		}
		m.SetTsig(d.key.name, d.key.algorithm, fudge, time.Now().Unix())
		wire, mac, err := dns.TsigGenerate(m, d.key.secret, "", false)
		if err != nil {
			return nil, fail(err.Error())
		}
		open[m.Id] = sent{i, mac}
		if _, err := conn.Write(wire); err != nil {
			return nil, fail(plainReason(err))
		}
	}
	answers = make([]*dns.Msg, len(questions))
	for range questions {
		wire, err := conn.ReadMsgHeader(nil)
		if err != nil {
			return nil, fail(plainReason(err))
		}
		res := new(dns.Msg)
		if err := res.Unpack(wire); err != nil {
			return nil, fail("an answer cannot be read: " + err.Error())
		}
		of, known := open[res.Id]
		if !known || !res.Response {
			return nil, fail("what came back is no answer to what was asked")
		}
		delete(open, res.Id)
		if res.IsTsig() == nil {
			return nil, fail("the answer is not signed")
		}
		if err := dns.TsigVerify(wire, d.key.secret, of.mac, false); err != nil {
			return nil, d.told(res, asked, zone.String(), outcome, err)
		}
		answers[of.at] = res
	}
	return answers, nil
}

// told makes an error of an answer that is none; nil where it is one. A failed signature cannot be believed to say that
// nothing was done, unless it is the server that says that it did not know ours.
func (d *Driver) told(res *dns.Msg, asked, zone string, outcome outcall.Outcome, signature error) error {
	if t := res.IsTsig(); t != nil && t.Error != 0 {
		words := map[uint16]string{dns.RcodeBadSig: "the secret of the key is not the server's", dns.RcodeBadKey: "the server does not know this key",
			dns.RcodeBadTime: "the clocks of server and service differ by more than five minutes"}[t.Error]
		return d.fail(asked, zone, outcall.Unauthorised, outcall.NotDone, fmt.Sprintf("%s %s", dns.RcodeToString[res.Rcode], words))
	}
	if signature != nil {
		if res.Rcode == dns.RcodeNotAuth || res.Rcode == dns.RcodeRefused {
			return d.fail(asked, zone, outcall.Unauthorised, outcall.NotDone, dns.RcodeToString[res.Rcode]+": the server does not accept this key")
		}
		return d.fail(asked, zone, outcall.Unavailable, outcome, "the answer's signature is wrong")
	}
	kind := outcall.Refused
	switch res.Rcode {
	case dns.RcodeSuccess:
		return nil
	case dns.RcodeNXRrset, dns.RcodeYXRrset, dns.RcodeYXDomain:
		kind = outcall.Conflict
	case dns.RcodeNameError:
		kind = outcall.NotFound
		if asked == "UPDATE" { // a prerequisite (RFC 2136 section 3.2.5)
			kind = outcall.Conflict
		}
	case dns.RcodeNotAuth, dns.RcodeNotZone:
		kind = outcall.NotFound
	case dns.RcodeRefused:
		kind = outcall.Unauthorised
	case dns.RcodeServerFailure:
		return d.fail(asked, zone, outcall.Unavailable, outcome, "SERVFAIL")
	}
	return d.fail(asked, zone, kind, outcall.NotDone, dns.RcodeToString[res.Rcode])
}

// Probe asks something small that shows whether the server knows the key: whatever it says of the root, it signs.
func (d *Driver) Probe(ctx context.Context) error {
	conn, err := d.connect(ctx, "SOA", ".")
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = d.exchange(ctx, conn, new(dns.Msg).SetQuestion(".", dns.TypeSOA), "SOA", outcall.NotDone)
	var told *outcall.Error
	if errors.As(err, &told) && (told.Said == "REFUSED" || told.Said == "SERVFAIL") {
		return nil // signed by the server, which has no root
	}
	return err
}

// Find asks whether the server answers for a zone, and for its nameservers: two requests, one behind the other without waiting.
func (d *Driver) Find(ctx context.Context, name dnsname.Name) (provider.Zone, bool, error) {
	conn, err := d.connect(ctx, "SOA", name.String())
	if err != nil {
		return provider.Zone{}, false, err
	}
	kept := false
	defer func() {
		if !kept {
			conn.Close()
		}
	}()
	answers, err := d.exchangeAll(ctx, conn, name, []*dns.Msg{new(dns.Msg).SetQuestion(name.String(), dns.TypeSOA), new(dns.Msg).SetQuestion(name.String(), dns.TypeNS)}, "SOA, NS", outcall.NotDone)
	if err != nil {
		return provider.Zone{}, false, err
	}
	res := answers[1]
	var told *outcall.Error
	if err := d.told(answers[0], "SOA", name.String(), outcall.NotDone, nil); errors.As(err, &told) && (told.Kind == outcall.NotFound || told.Said == "REFUSED") || err == nil && soaIn(answers[0], name) == nil {
		return provider.Zone{}, false, nil
	} else if err != nil {
		return provider.Zone{}, false, err
	}
	if err := d.told(res, "NS", name.String(), outcall.NotDone, nil); err != nil {
		return provider.Zone{}, false, err
	}
	z := provider.Zone{Ref: provider.ZoneRef{ID: name.String(), Name: name}}
	var hosts []string
	for _, rr := range res.Answer {
		if ns, ok := rr.(*dns.NS); ok {
			hosts = append(hosts, ns.Ns)
		}
	}
	z.Nameservers, err = dnsname.ParseSet(hosts)
	d.spare.put(conn)
	kept = true
	return z, err == nil, err
}

// soa asks for a zone's SOA; nil where the server does not answer for it.
func (d *Driver) soa(ctx context.Context, conn *dns.Conn, name dnsname.Name) (*dns.SOA, error) {
	res, err := d.exchange(ctx, conn, new(dns.Msg).SetQuestion(name.String(), dns.TypeSOA), "SOA", outcall.NotDone)
	if err != nil {
		return nil, err
	}
	return soaIn(res, name), nil
}

// soaIn returns the SOA of a zone from an answer with authority; nil where there is none.
func soaIn(res *dns.Msg, name dnsname.Name) *dns.SOA {
	for _, rr := range res.Answer {
		if soa, ok := rr.(*dns.SOA); ok && res.Authoritative && dns.CanonicalName(soa.Hdr.Name) == name.String() {
			return soa
		}
	}
	return nil
}
