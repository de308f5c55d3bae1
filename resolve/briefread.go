package resolve

import (
	"encoding/binary"
	"errors"
	"net"
	"slices"
	"sync"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
)

var errCutOff = errors.New("the message is cut off")

// namebook remembers how names are written that were read before: thousands of domains have the same few nameservers. It is safe
// for concurrent use.
type namebook struct {
	mu    sync.RWMutex
	texts map[string]string       // by their octets
	names map[string]dnsname.Name // by their text
}

// book has the names of nameservers and zones, wherever they are met.
var book = newNamebook()

// mostNames bounds what a namebook remembers; it begins again then.
const mostNames = 4096

func newNamebook() *namebook {
	return &namebook{texts: map[string]string{}, names: map[string]dnsname.Name{}}
}

// parse is dnsname.Parse.
func (b *namebook) parse(text string) (dnsname.Name, error) {
	b.mu.RLock()
	name, known := b.names[text]
	b.mu.RUnlock()
	if known {
		return name, nil
	}
	name, err := dnsname.Parse(text)
	if err == nil {
		b.mu.Lock()
		if len(b.names) >= mostNames {
			clear(b.names)
		}
		b.names[text] = name
		b.mu.Unlock()
	}
	return name, err
}

// read returns the name at an offset in presentation form, and where it ends.
func (b *namebook) read(octets []byte, at int) (text string, next int, err error) {
	var buf [255]byte
	plain, next, ok := unfold(octets, at, buf[:0])
	if !ok {
		return dns.UnpackDomainName(octets, at)
	}
	b.mu.RLock()
	text, known := b.texts[string(plain)]
	b.mu.RUnlock()
	if known {
		return text, next, nil
	}
	if text, next, err = dns.UnpackDomainName(octets, at); err == nil {
		b.mu.Lock()
		if len(b.texts) >= mostNames {
			clear(b.texts)
		}
		b.texts[string(plain)] = text
		b.mu.Unlock()
	}
	return text, next, err
}

// unfold returns the labels of a name without pointers, and where the name ends (RFC 1035 section 4.1.4).
func unfold(octets []byte, at int, plain []byte) (_ []byte, next int, ok bool) {
	next = -1
	for jumps := 0; at < len(octets); {
		switch length := int(octets[at]); {
		case length == 0:
			if next < 0 {
				next = at + 1
			}
			return plain, next, true
		case length >= 0xc0:
			if jumps++; jumps > 32 || at+1 >= len(octets) {
				return nil, 0, false
			}
			if next < 0 {
				next = at + 2
			}
			at = (length&0x3f)<<8 | int(octets[at+1])
		case length >= 0x40 || at+1+length > len(octets) || len(plain)+1+length > cap(plain):
			return nil, 0, false
		default:
			plain = append(plain, octets[at:at+1+length]...)
			at += 1 + length
		}
	}
	return nil, 0, false
}

// readBriefly reads a message of which only so much is looked at: header, answers and EDNS; where there is no answer, all of it. It
// gives nil for messages that are to be read by the library: truncated ones, and those that do not repeat the question.
func (b *namebook) readBriefly(octets []byte, asked string) (*dns.Msg, error) {
	if len(octets) < headerLen {
		return nil, errCutOff
	}
	count := func(i int) int { return int(binary.BigEndian.Uint16(octets[4+2*i:])) }
	if octets[2]&0x02 != 0 || count(0) != 1 {
		return nil, nil
	}
	room := new(briefRoom)
	m := &room.msg
	m.Id = binary.BigEndian.Uint16(octets)
	m.Response, m.Authoritative, m.RecursionAvailable, m.AuthenticatedData = true, octets[2]&0x04 != 0, octets[3]&0x80 != 0, octets[3]&0x20 != 0
	m.Rcode = int(octets[3] & 0xf)
	at, err := pastName(octets, headerLen)
	if err != nil || at+4 > len(octets) {
		return nil, errCutOff
	}
	at += 4
	whole := count(1) == 0
	for i, section := range []*[]dns.RR{&m.Answer, &m.Ns, &m.Extra} {
		n := count(i + 1)
		if n > 0 && (i == 0 || whole) {
			*section = room.list(n)
		}
		for range n {
			begin := at
			t, end, err := pastRecord(octets, at)
			if err != nil {
				return nil, err
			}
			at = end
			if i > 0 && !whole && (i < 2 || t != dns.TypeOPT) {
				continue
			}
			if *section == nil {
				*section = room.list(1)
			}
			rr, err := b.record(room, octets[:end], begin, t, asked)
			if err != nil {
				return nil, err
			}
			if opt, ok := rr.(*dns.OPT); ok {
				m.Rcode |= opt.ExtendedRcode()
			}
			*section = append(*section, rr)
		}
	}
	return m, nil
}

// briefRoom is room for what most messages hold, so that little of it is made at a time.
type briefRoom struct {
	msg dns.Msg
	rrs [6]dns.RR
	soa dns.SOA
	opt dns.OPT
	ns  []dns.NS // free ones
	a   []dns.A

	used   uint8 // of rrs
	hasSOA bool
	hasOPT bool
}

// list returns a list with room for so many records.
func (r *briefRoom) list(n int) []dns.RR {
	begin := int(r.used)
	if n > len(r.rrs)-begin {
		return make([]dns.RR, 0, min(n, 32))
	}
	r.used += uint8(n)
	return r.rrs[begin : begin : begin+n]
}

// next returns the first of the free places, which are made four at a time.
func next[T any](free *[]T) *T {
	if len(*free) == 0 {
		*free = make([]T, 4)
	}
	p := &(*free)[0]
	*free = (*free)[1:]
	return p
}

// record reads a record that ends with the octets; the library reads all but the commonest types.
func (b *namebook) record(room *briefRoom, octets []byte, at int, t uint16, asked string) (dns.RR, error) {
	h := dns.RR_Header{Name: asked, Rrtype: t}
	begin, err := at, error(nil)
	if octets[at] == 0xc0 && octets[at+1] == headerLen { // the name that was asked for
		at += 2
	} else if h.Name, at, err = b.read(octets, at); err != nil {
		return nil, err
	}
	h.Class, h.Ttl, h.Rdlength = binary.BigEndian.Uint16(octets[at+2:]), binary.BigEndian.Uint32(octets[at+4:]), binary.BigEndian.Uint16(octets[at+8:])
	at += 10
	data := octets[at:]
	switch {
	case t == dns.TypeA && len(data) == net.IPv4len:
		a := next(&room.a)
		a.Hdr, a.A = h, slices.Clone(data)
		return a, nil
	case t == dns.TypeAAAA && len(data) == net.IPv6len:
		return &dns.AAAA{Hdr: h, AAAA: slices.Clone(data)}, nil
	case t == dns.TypeNS:
		target, end, err := b.read(octets, at)
		if err != nil || end != len(octets) {
			return nil, errCutOff
		}
		ns := next(&room.ns)
		ns.Hdr, ns.Ns = h, target
		return ns, nil
	case t == dns.TypeSOA:
		primary, at, err := b.read(octets, at)
		if err != nil {
			return nil, err
		}
		contact, at, err := b.read(octets, at)
		if err != nil || at+20 != len(octets) {
			return nil, errCutOff
		}
		number := func(i int) uint32 { return binary.BigEndian.Uint32(octets[at+4*i:]) }
		soa := &room.soa
		if room.hasSOA {
			soa = new(dns.SOA)
		}
		room.hasSOA = true
		*soa = dns.SOA{Hdr: h, Ns: primary, Mbox: contact, Serial: number(0), Refresh: number(1), Retry: number(2), Expire: number(3), Minttl: number(4)}
		return soa, nil
	case t == dns.TypeOPT && len(data) == 0:
		opt := &room.opt
		if room.hasOPT {
			opt = new(dns.OPT)
		}
		room.hasOPT = true
		opt.Hdr = h
		return opt, nil
	}
	rr, _, err := dns.UnpackRR(octets, begin)
	return rr, err
}

// pastRecord returns the type of the record at an offset, and where it ends.
func pastRecord(octets []byte, at int) (t uint16, end int, err error) {
	at, err = pastName(octets, at)
	if err != nil || at+10 > len(octets) {
		return 0, 0, errCutOff
	}
	end = at + 10 + int(binary.BigEndian.Uint16(octets[at+8:]))
	if end > len(octets) {
		return 0, 0, errCutOff
	}
	return binary.BigEndian.Uint16(octets[at:]), end, nil
}

// pastName returns where a name ends that begins at an offset: a pointer is its end.
func pastName(octets []byte, at int) (int, error) {
	for at < len(octets) {
		switch length := int(octets[at]); {
		case length == 0:
			return at + 1, nil
		case length >= 0xc0:
			return at + 2, nil
		case length >= 0x40:
			return 0, errors.New("a label has a length that is none")
		default:
			at += 1 + length
		}
	}
	return 0, errCutOff
}
