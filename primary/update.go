package primary

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
)

// UpdateKey is a key that signs dynamic updates.
type UpdateKey struct {
	Name      string // canonical
	Algorithm string // the one that it is for, such as dns.HmacSHA256
	Secret    string // in Base64
}

// Updater takes dynamic updates (RFC 2136) and returns whose they are. It is safe for concurrent use.
type Updater interface {
	// UpdateKey returns the key of a name; false where there is none.
	UpdateKey(ctx context.Context, name string) (UpdateKey, bool)
	// Start returns the SOA record of the zone with hosts of the key that a name lies in; false where there is none.
	Start(ctx context.Context, key string, name dnsname.Name) (*dns.SOA, bool, error)
	// Update takes an update whose signature is verified, and returns the code that it is answered, and the lease that is granted, in seconds, 0 for none. signature is the same for the same
	// message only.
	Update(ctx context.Context, key, signature string, m *dns.Msg, from netip.Addr) (rcode int, lease uint32, err error)
}

// longestFudge is how much the time of a signature may differ from ours, whatever its fudge says (RFC 8945 section 10).
const longestFudge = 300 * time.Second

// mostRecords bounds the prerequisites, and the changes, of an update.
const mostRecords = 200

// accept returns what is to be done about a message by its header.
func (s *Server) accept(h dns.Header) dns.MsgAcceptAction {
	if op := int(h.Bits>>11) & 0xF; op == dns.OpcodeUpdate && s.Updates != nil && h.Bits&(1<<15) == 0 {
		if h.Qdcount != 1 || h.Ancount > mostRecords || h.Nscount > mostRecords || h.Arcount > 4 {
			return dns.MsgReject
		}
		return dns.MsgAccept
	}
	return dns.DefaultMsgAcceptFunc(h)
}

// isUpdate reports whether a message on the wire is an update, or the answer to one.
func isUpdate(message []byte) bool {
	return len(message) > 2 && message[2]>>3&0xF == dns.OpcodeUpdate
}

// errTruncated is a signature that is right as far as it goes, and shorter than its algorithm's (RFC 8945 section 5.2.2.1).
var errTruncated = errors.New("the signature is truncated")

// tsigError returns the error of a signature that was not verified, as its answer says it (RFC 8945 section 5.2).
func tsigError(err error) int {
	switch {
	case errors.Is(err, dns.ErrTime):
		return dns.RcodeBadTime
	case errors.Is(err, dns.ErrSig):
		return dns.RcodeBadSig
	case errors.Is(err, errTruncated):
		return dns.RcodeBadTrunc
	}
	return dns.RcodeBadKey
}

// unverified answers a message whose signature was not verified: NOTAUTH with the error. It is not signed where the key or the signature is wrong; where the time is, it says ours.
func (s *Server) unverified(rw dns.ResponseWriter, q *dns.Msg, problem error) {
	t := q.IsTsig()
	m := new(dns.Msg).SetRcode(q, dns.RcodeNotAuth)
	m.Question = q.Question
	answer := &dns.TSIG{Hdr: dns.RR_Header{Name: t.Hdr.Name, Rrtype: dns.TypeTSIG, Class: dns.ClassANY}, Algorithm: t.Algorithm, TimeSigned: t.TimeSigned, Fudge: t.Fudge,
		OrigId: q.Id, Error: uint16(tsigError(problem))}
	if answer.Error == dns.RcodeBadTime {
		var now [8]byte
		binary.BigEndian.PutUint64(now[:], uint64(time.Now().Unix()))
		answer.OtherLen, answer.OtherData = 6, hex.EncodeToString(now[2:])
	}
	m.Extra = append(m.Extra, answer)
	_ = rw.WriteMsg(m)
}

// late reports whether a signature is older, or newer, than any is believed.
func late(t *dns.TSIG, now time.Time) bool {
	return now.Sub(time.Unix(int64(t.TimeSigned), 0)).Abs() > longestFudge
}

// update answers an update.
func (s *Server) update(ctx context.Context, rw dns.ResponseWriter, q *dns.Msg, from netip.Addr) {
	t := q.IsTsig()
	reply := func(rcode int, lease uint32) {
		m := new(dns.Msg).SetRcode(q, rcode)
		if opt := q.IsEdns0(); opt != nil {
			m.SetEdns0(maxUDP, false)
			if lease > 0 {
				m.IsEdns0().Option = []dns.EDNS0{&dns.EDNS0_UL{Code: dns.EDNS0UL, Lease: lease}}
			}
		}
		s.sign(m, q)
		_ = rw.WriteMsg(m)
	}
	switch {
	case t == nil:
		reply(dns.RcodeRefused, 0)
	case rw.TsigStatus() != nil:
		s.unverified(rw, q, rw.TsigStatus())
	case late(t, time.Now()):
		s.unverified(rw, q, dns.ErrTime)
	default:
		rcode, lease, err := s.Updates.Update(ctx, dns.CanonicalName(t.Hdr.Name), t.MAC, q, from)
		if err != nil {
			s.Log.Error("an update cannot be taken", "key", t.Hdr.Name, "from", from, "error", err)
			rcode, lease = dns.RcodeServerFailure, 0
		}
		reply(rcode, lease)
	}
}

// start answers a question for the SOA record of a zone that has hosts of the key: clients ask for it before they update. It reports whether it did.
func (s *Server) start(ctx context.Context, rw dns.ResponseWriter, q *dns.Msg, name dnsname.Name) bool {
	if s.Updates == nil || q.Question[0].Qtype != dns.TypeSOA {
		return false
	}
	soa, ok, err := s.Updates.Start(ctx, dns.CanonicalName(q.IsTsig().Hdr.Name), name)
	if err != nil {
		s.Log.Error("the zone of hosts cannot be read", "name", name, "error", err)
	}
	if !ok || err != nil {
		return false
	}
	m := new(dns.Msg).SetReply(q)
	m.Authoritative = true
	if soa.Hdr.Name == name.String() {
		m.Answer = []dns.RR{soa}
	} else { // whether the name is there is not told
		m.Ns = []dns.RR{soa}
	}
	s.sign(m, q)
	_ = rw.WriteMsg(m)
	return true
}
