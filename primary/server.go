package primary

import (
	"context"
	"encoding/binary"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/reach"
)

// Server answers on one address, over UDP and TCP.
type Server struct {
	Source  Source
	Updates Updater // nil to take no updates
	Log     *slog.Logger
}

// maxUDP is how many octets a message over UDP may have.
const maxUDP = 4096

// timeout bounds a question to the Source, and reading and writing one message.
const timeout = 20 * time.Second

// Serve answers until ctx ends. started is called when both sockets are open; it may be nil.
func (s *Server) Serve(ctx context.Context, listen string, started func()) error {
	packets, stream, err := reach.ServerSockets(listen)
	if err != nil {
		return err
	}
	var ready sync.WaitGroup
	ended := make(chan error, 2)
	keys := provider{s.Source, s.Updates}
	parts := []*dns.Server{{PacketConn: packets}, {Listener: stream, MaxTCPQueries: 64}}
	for _, part := range parts {
		ready.Add(1)
		part.Handler, part.TsigProvider, part.NotifyStartedFunc, part.MsgAcceptFunc, part.UDPSize = s, keys, ready.Done, s.accept, maxUDP
		part.ReadTimeout, part.WriteTimeout = timeout, timeout
		go func() { ended <- part.ActivateAndServe() }()
	}
	ready.Wait() // a part that has not begun cannot be ended
	if started != nil {
		started()
	}
	running := len(parts)
	select {
	case <-ctx.Done():
	case err = <-ended:
		running--
	}
	for _, part := range parts {
		_ = part.Shutdown()
	}
	for ; running > 0; running-- {
		<-ended
	}
	return err
}

// provider verifies and makes signatures with the keys of a source.
type provider struct {
	source  Source
	updates Updater
}

// secret returns the key that signs messages about the zone that one of them is about: two accounts may have keys of one name. Updates are signed by keys of hosts, and questions
// for SOA records may be.
func (p provider) secret(message []byte, t *dns.TSIG) (dns.TsigProvider, error) {
	ctx, cancel := context.WithTimeout(context.Background(), timeout)
	defer cancel()
	name := dns.CanonicalName(t.Hdr.Name)
	if !isUpdate(message) {
		zone, ok := zoneOf(message)
		if !ok {
			return nil, dns.ErrSecret
		}
		if secret, ok := p.source.Key(ctx, zone, name); ok {
			return hmacKey{secret: secret}, nil
		}
	}
	if p.updates == nil {
		return nil, dns.ErrSecret
	}
	k, ok := p.updates.UpdateKey(ctx, name)
	if !ok {
		return nil, dns.ErrSecret
	}
	return hmacKey{k.Secret, k.Algorithm}, nil
}

func (p provider) Generate(msg []byte, t *dns.TSIG) ([]byte, error) {
	message := msg
	if len(msg) > 2 { // what is signed of an answer begins with the signature of the question (RFC 8945 section 5.3.1)
		message = msg[min(len(msg), 2+int(binary.BigEndian.Uint16(msg))):]
	}
	k, err := p.secret(message, t)
	if err != nil {
		return nil, err
	}
	return k.Generate(msg, t)
}

func (p provider) Verify(msg []byte, t *dns.TSIG) error {
	k, err := p.secret(msg, t)
	if err != nil {
		return err
	}
	return k.Verify(msg, t)
}

// zoneOf returns the name in the question of a message on the wire.
func zoneOf(message []byte) (name dnsname.Name, ok bool) {
	const header = 12
	if len(message) < header || binary.BigEndian.Uint16(message[4:]) != 1 {
		return name, false
	}
	text, _, err := dns.UnpackDomainName(message, header)
	if err != nil {
		return name, false
	}
	name, err = dnsname.Parse(text)
	return name, err == nil
}

// ServeDNS answers one message.
func (s *Server) ServeDNS(rw dns.ResponseWriter, q *dns.Msg) {
	ctx, cancel := context.WithTimeout(context.Background(), timeout)
	defer cancel()
	from := addressOf(rw.RemoteAddr())
	refuse := func(rcode int) { _ = rw.WriteMsg(new(dns.Msg).SetRcode(q, rcode)) }
	if len(q.Question) != 1 || q.Question[0].Qclass != dns.ClassINET {
		refuse(dns.RcodeFormatError)
		return
	}
	if q.Opcode == dns.OpcodeUpdate && s.Updates != nil {
		s.update(ctx, rw, q, from)
		return
	}
	name, err := dnsname.Parse(q.Question[0].Name)
	if err != nil {
		refuse(dns.RcodeFormatError)
		return
	}
	if q.Opcode == dns.OpcodeNotify {
		if !s.Source.Notified(ctx, name, from) {
			refuse(dns.RcodeRefused)
			return
		}
		m := new(dns.Msg).SetReply(q)
		m.Authoritative = true
		s.sign(m, q)
		_ = rw.WriteMsg(m)
		return
	}
	t := q.IsTsig()
	switch {
	case q.Opcode != dns.OpcodeQuery || t == nil:
		refuse(dns.RcodeRefused)
		return
	case rw.TsigStatus() != nil:
		s.unverified(rw, q, rw.TsigStatus())
		return
	}
	zone, ok, err := s.Source.For(ctx, name, dns.CanonicalName(t.Hdr.Name), from)
	switch {
	case err != nil:
		s.Log.Error("a published zone cannot be read", "zone", name, "error", err)
		refuse(dns.RcodeServerFailure)
	case !ok && s.start(ctx, rw, q, name):
	case !ok:
		m := new(dns.Msg).SetRcode(q, dns.RcodeRefused)
		s.sign(m, q)
		_ = rw.WriteMsg(m)
	default:
		s.answer(ctx, rw, q, zone)
	}
}

func addressOf(a net.Addr) netip.Addr {
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}

// sign has the answer to a signed message signed too.
func (s *Server) sign(m, q *dns.Msg) {
	if t := q.IsTsig(); t != nil {
		m.SetTsig(t.Hdr.Name, t.Algorithm, 300, time.Now().Unix())
	}
}

// answer returns what was asked for of a zone.
func (s *Server) answer(ctx context.Context, rw dns.ResponseWriter, q *dns.Msg, zone Zone) {
	soa := zone.soa()
	one := func() {
		m := new(dns.Msg).SetReply(q)
		m.Authoritative, m.Answer = true, []dns.RR{soa}
		s.sign(m, q)
		_ = rw.WriteMsg(m)
	}
	var sequence []dns.RR
	var err error
	switch q.Question[0].Qtype {
	case dns.TypeAXFR:
		sequence, err = whole(zone)
	case dns.TypeIXFR:
		known, ok := serialIn(q)
		if !ok || !Newer(zone.Serial, known) || rw.LocalAddr().Network() == "udp" {
			one() // nothing newer; or, over UDP, come again over TCP (RFC 1995 section 2)
			return
		}
		sequence, err = s.differences(ctx, zone, known)
	default:
		one()
		return
	}
	if err != nil {
		s.Log.Error("a zone cannot be transferred", "zone", zone.Name, "error", err)
		_ = rw.WriteMsg(new(dns.Msg).SetRcode(q, dns.RcodeServerFailure))
		return
	}
	if rw.LocalAddr().Network() == "udp" {
		_ = rw.WriteMsg(new(dns.Msg).SetRcode(q, dns.RcodeFormatError))
		return
	}
	if err := send(rw, q, sequence); err != nil {
		s.Log.Warn("a transfer was broken off", "zone", zone.Name, "to", rw.RemoteAddr(), "error", err)
	}
	rw.Hijack()
	_ = rw.Close()
}

func serialIn(q *dns.Msg) (uint32, bool) {
	for _, rr := range q.Ns {
		if soa, ok := rr.(*dns.SOA); ok {
			return soa.Serial, true
		}
	}
	return 0, false
}

func whole(zone Zone) ([]dns.RR, error) {
	records, err := zone.records()
	return append(append([]dns.RR{zone.soa()}, records...), zone.soa()), err
}

// differences returns what changed since a serial; the whole zone where that is not known any more (RFC 1995 section 4).
func (s *Server) differences(ctx context.Context, zone Zone, known uint32) ([]dns.RR, error) {
	versions, err := s.Source.Since(ctx, zone.Name, known)
	if err != nil {
		return nil, err
	}
	if len(versions) < 2 || versions[0].Serial != known || versions[len(versions)-1].Serial != zone.Serial {
		return whole(zone)
	}
	sequence := []dns.RR{zone.soa()}
	for i := 1; i < len(versions); i++ {
		before, after := versions[i-1], versions[i]
		comes, goes, _ := record.Difference(before.Contents, after.Contents)
		gone, err := wire(goes)
		if err != nil {
			return nil, err
		}
		come, err := wire(comes)
		if err != nil {
			return nil, err
		}
		sequence = append(append(sequence, before.soa()), gone...)
		sequence = append(append(sequence, after.soa()), come...)
	}
	return append(sequence, zone.soa()), nil
}

// octets is about how large a message of a transfer gets.
const octets = 16 << 10

// send writes a sequence in as many messages as it takes.
func send(rw dns.ResponseWriter, q *dns.Msg, sequence []dns.RR) error {
	parts := make(chan *dns.Envelope)
	done := make(chan error, 1)
	go func() {
		err := new(dns.Transfer).Out(rw, q, parts)
		done <- err
		for range parts { // whoever fills it is not left waiting
		}
	}()
	size, from := 0, 0
	for i, rr := range sequence {
		if size += dns.Len(rr); size > octets {
			parts <- &dns.Envelope{RR: sequence[from : i+1]}
			size, from = 0, i+1
		}
	}
	if from < len(sequence) {
		parts <- &dns.Envelope{RR: sequence[from:]}
	}
	close(parts)
	return <-done
}

var errKey = errors.New("the key's secret is not Base64")
