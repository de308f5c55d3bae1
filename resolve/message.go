package resolve

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"

	"github.com/miekg/dns"
)

// packed is a question on the wire. Its parts share room that is used again.
type packed struct {
	room     [336]byte
	octets   []byte
	question []byte // its question section
	plain    []byte // the same in the letters that it was put in
	was      [260]byte
}

const headerLen = 12

// pack writes a question: the letters of its name in random case, so that an answer made up by somebody else has more to
// guess, and with EDNS the size that is taken and a cookie (RFC 7873).
func (p *packed) pack(q Question, id uint16, edns bool, cookie, serverCookie []byte, mix bool) error {
	buf := p.room[:]
	clear(buf[:headerLen])
	binary.BigEndian.PutUint16(buf, id)
	if q.Recurse {
		buf[2] |= 1
	}
	if q.Unchecked {
		buf[3] |= 0x10
	}
	buf[5] = 1
	n, err := dns.PackDomainName(q.Name, buf, headerLen, nil, false)
	if err != nil {
		return fmt.Errorf("the question cannot be put: %w", err)
	}
	binary.BigEndian.PutUint16(buf[n:], q.Type)
	binary.BigEndian.PutUint16(buf[n+2:], dns.ClassINET)
	p.question = buf[headerLen : n+4]
	p.plain = p.was[:copy(p.was[:], p.question)]
	if mix {
		mixCase(buf[headerLen:n])
	}
	out := buf[:n+4]
	if edns {
		out[11] = 1
		out = append(out, 0, 0, byte(dns.TypeOPT), udpSize>>8, udpSize&0xff, 0, 0, 0, 0)
		if q.Signed {
			out[len(out)-2] = 0x80
		}
		size := len(out)
		out = append(out, 0, 0)
		if cookie != nil {
			out = append(out, 0, dns.EDNS0COOKIE, 0, byte(len(cookie)+len(serverCookie)))
			out = append(append(out, cookie...), serverCookie...)
		}
		if q.Visitor.IsValid() {
			out = appendVisitor(out, q.Visitor)
		}
		out[size+1] = byte(len(out) - size - 2)
	}
	p.octets = out
	return nil
}

// appendVisitor appends the network that a question is asked for (RFC 7871 section 6).
func appendVisitor(out []byte, n netip.Prefix) []byte {
	address := n.Masked().Addr().As4()
	octets := address[:(n.Bits()+7)/8]
	out = append(out, 0, dns.EDNS0SUBNET, 0, byte(4+len(octets)), 0, 1, byte(n.Bits()), 0)
	return append(out, octets...)
}

// mixCase returns letters a random case. Lengths of labels are below 64, and letters above, so they are not mistaken.
func mixCase(name []byte) {
	var bits uint64
	for i := range name {
		if i%64 == 0 {
			bits = rand.Uint64()
		}
		if c := name[i] | 0x20; 'a' <= c && c <= 'z' && bits&(1<<(i%64)) != 0 {
			name[i] ^= 0x20
		}
	}
}

// answers returns how an answer fits a question that was sent: not at all, in other letters, or wholly.
func (p *packed) answers(octets []byte) (fits, exactly bool) {
	if len(octets) < headerLen || octets[2]&0x80 == 0 || octets[2]&0x78 != p.octets[2]&0x78 {
		return false, false
	}
	count := binary.BigEndian.Uint16(octets[4:])
	if rcode := octets[3] & 0xf; count == 0 && len(octets) == headerLen && (rcode == dns.RcodeFormatError || rcode == dns.RcodeNotImplemented) {
		return true, true // from before EDNS: it does not even repeat the question
	}
	end := headerLen + len(p.question)
	if count != 1 || len(octets) < end {
		return false, false
	}
	got := octets[headerLen:end]
	return equalFold(got, p.question), bytes.Equal(got, p.question)
}

// calm puts the question of an answer back into plain letters, which names in it that point there then have too.
func (p *packed) calm(octets []byte) {
	if len(octets) >= headerLen+len(p.plain) && octets[5] == 1 {
		copy(octets[headerLen:], p.plain)
	}
}

// equalFold compares names without regard to the case of ASCII letters, and nothing else.
func equalFold(a, b []byte) bool {
	for i := range a {
		x, y := a[i], b[i]
		if x != y && (x|0x20 != y|0x20 || x|0x20 < 'a' || x|0x20 > 'z') {
			return false
		}
	}
	return len(a) == len(b)
}

// clientCookie is what we show one server (RFC 7873 section 4.1).
func (c *Client) clientCookie(server netip.Addr) []byte {
	mac := hmac.New(sha256.New, c.secret[:])
	b := server.As16()
	mac.Write(b[:])
	return mac.Sum(nil)[:8]
}

var errForeignCookie = errors.New("the answer has a cookie that was not sent")

// serverCookie reads the server's part of a cookie; an answer with somebody else's client part is not for us.
func serverCookie(m *dns.Msg, ours []byte) ([]byte, error) {
	opt := m.IsEdns0()
	if opt == nil {
		return nil, nil
	}
	for _, o := range opt.Option {
		if c, ok := o.(*dns.EDNS0_COOKIE); ok {
			b, err := hex.DecodeString(c.Cookie)
			if err != nil || len(b) < 8 || !bytes.Equal(b[:8], ours) {
				return nil, errForeignCookie
			}
			if len(b) >= 16 && len(b) <= 40 {
				return b[8:], nil
			}
		}
	}
	return nil, nil
}
