package practice

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// zoneData is a zone as a nameserver answers it: record sets by lower-case name and type.
type zoneData struct {
	name    string
	servers []string // sites that answer for it
	sets    map[string]map[uint16][]dns.RR
	at      string  // the provider that hosts it; empty for what the world itself has
	signer  *signer // nil where the zone is not signed
	follows uint32  // the TTL of addresses at the apex that the provider looks up elsewhere, in seconds; 0 for none
}

func newZoneData(name string, servers ...string) *zoneData {
	return &zoneData{name: name, servers: servers, sets: map[string]map[uint16][]dns.RR{}}
}

func (z *zoneData) add(rrs ...dns.RR) {
	for _, rr := range rrs {
		name := dns.CanonicalName(rr.Header().Name)
		if z.sets[name] == nil {
			z.sets[name] = map[uint16][]dns.RR{}
		}
		z.sets[name][rr.Header().Rrtype] = append(z.sets[name][rr.Header().Rrtype], rr)
	}
}

// line adds a record in master-file form; it is used with texts of our own making only.
func (z *zoneData) line(format string, args ...any) {
	rr, err := dns.NewRR(fmt.Sprintf(format, args...))
	if err != nil {
		panic(err)
	}
	z.add(rr)
}

// authority answers as the authoritative nameserver at one site.
func (w *World) authority(site string) dns.Handler {
	return dns.HandlerFunc(func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		w.arrive()
		w.mu.RLock()
		if len(q.Question) != 1 {
			m.Rcode = dns.RcodeFormatError
		} else if z := w.zoneFor(site, q.Question[0]); z == nil {
			m.Rcode = dns.RcodeRefused
		} else {
			z.answer(q.Question[0], m)
			z.countDown(m, w.clock.now())
			if opt := q.IsEdns0(); z.signer != nil && opt != nil && opt.Do() {
				z.signer.complete(q.Question[0], m)
			}
		}
		w.mu.RUnlock()
		reply(rw, q, m)
	})
}

// countDown lowers the TTLs of what the provider looks up elsewhere by how old its copy is.
func (z *zoneData) countDown(m *dns.Msg, now time.Time) {
	for i, rr := range m.Answer {
		if t := rr.Header().Rrtype; z.follows > 0 && (t == dns.TypeA || t == dns.TypeAAAA) && rr.Header().Name == z.name {
			m.Answer[i] = dns.Copy(rr)
			m.Answer[i].Header().Ttl = z.follows - uint32(now.Unix())%z.follows
		}
	}
}

// reply sends m, cut to what the asker can take over UDP (RFC 6891 section 6.2.5).
func reply(rw dns.ResponseWriter, q, m *dns.Msg) {
	size := dns.MinMsgSize
	if opt := q.IsEdns0(); opt != nil {
		if size = int(max(opt.UDPSize(), dns.MinMsgSize)); m.IsEdns0() == nil {
			m.SetEdns0(1232, opt.Do())
		}
	}
	if rw.LocalAddr().Network() == "udp" {
		m.Truncate(size)
	}
	_ = rw.WriteMsg(m)
}

// zoneAt finds the longest zone that contains name and is served at site.
func (w *World) zoneAt(site, name string) *zoneData {
	for at, end := 0, name == "."; !end; at, end = dns.NextLabel(name, at) {
		if z := w.zoneNamed(site, name[at:]); z != nil {
			return z
		}
	}
	return w.zoneNamed(site, ".")
}

// zoneFor is the zone that answers a question at a site: DS records are the parent's (RFC 4035 section 3.1.4.1).
func (w *World) zoneFor(site string, q dns.Question) *zoneData {
	name := dns.CanonicalName(q.Name)
	if at, end := dns.NextLabel(name, 0); q.Qtype == dns.TypeDS && name != "." {
		above := "."
		if !end {
			above = name[at:]
		}
		if z := w.zoneAt(site, above); z != nil {
			return z
		}
	}
	return w.zoneAt(site, name)
}

func (w *World) zoneNamed(site, name string) *zoneData {
	for _, z := range w.zones[name] {
		if slices.Contains(z.servers, site) {
			return z
		}
	}
	return nil
}

// answer fills m as RFC 1034 section 4.3.2 says.
func (z *zoneData) answer(q dns.Question, m *dns.Msg) {
	name := dns.CanonicalName(q.Name)
	for range 9 {
		if cut := z.cut(name, q.Qtype); cut != "" {
			z.refer(cut, m)
			return
		}
		m.Authoritative = true
		sets, exists := z.lookup(name)
		switch {
		case !exists:
			if len(m.Answer) == 0 {
				m.Rcode = dns.RcodeNameError
			}
			m.Ns = append(m.Ns, z.soa()...)
			return
		case len(sets[q.Qtype]) > 0:
			m.Answer = append(m.Answer, renamed(sets[q.Qtype], name)...)
			if z.name == "." && q.Qtype == dns.TypeNS { // who primes a cache gets the addresses along (RFC 8109 section 4)
				z.glue(sets[dns.TypeNS], m)
			}
			if q.Qtype != dns.TypeNS && q.Qtype != dns.TypeSOA {
				m.Ns = append(m.Ns, z.sets[z.name][dns.TypeNS]...)
			}
			return
		case len(sets[dns.TypeCNAME]) == 0:
			m.Ns = append(m.Ns, z.soa()...)
			return
		}
		m.Answer = append(m.Answer, renamed(sets[dns.TypeCNAME], name)...)
		name = dns.CanonicalName(sets[dns.TypeCNAME][0].(*dns.CNAME).Target)
		if !dns.IsSubDomain(z.name, name) {
			return
		}
	}
}

// cut finds a delegation at or above name, below the zone's apex.
func (z *zoneData) cut(name string, qtype uint16) string {
	labels := dns.SplitDomainName(name)
	for i := len(labels) - dns.CountLabel(z.name) - 1; i >= 0; i-- {
		at := dns.Fqdn(strings.Join(labels[i:], "."))
		if len(z.sets[at][dns.TypeNS]) > 0 && (at != name || qtype != dns.TypeDS) {
			return at
		}
	}
	return ""
}

func (z *zoneData) refer(cut string, m *dns.Msg) {
	m.Ns = append(m.Ns, z.sets[cut][dns.TypeNS]...)
	z.glue(z.sets[cut][dns.TypeNS], m)
}

// glue adds the addresses of nameservers that the zone has.
func (z *zoneData) glue(servers []dns.RR, m *dns.Msg) {
	for _, rr := range servers {
		target := dns.CanonicalName(rr.(*dns.NS).Ns)
		m.Extra = append(append(m.Extra, z.sets[target][dns.TypeA]...), z.sets[target][dns.TypeAAAA]...)
	}
}

// lookup finds the sets at name, a wildcard's included (RFC 4592); exists is true for empty non-terminals too.
func (z *zoneData) lookup(name string) (sets map[uint16][]dns.RR, exists bool) {
	if sets, exists = z.sets[name]; exists {
		return sets, true
	}
	for other := range z.sets {
		if strings.HasSuffix(other, "."+name) {
			return nil, true
		}
	}
	for at, end := dns.NextLabel(name, 0); !end; at, end = dns.NextLabel(name, at) {
		encloser := name[at:]
		if sets, exists = z.sets["*."+encloser]; exists {
			return sets, true
		}
		if _, exists = z.sets[encloser]; exists || encloser == z.name {
			return nil, false
		}
	}
	return nil, false
}

func renamed(set []dns.RR, name string) []dns.RR {
	out := make([]dns.RR, len(set))
	for i, rr := range set {
		out[i] = dns.Copy(rr)
		out[i].Header().Name = name
	}
	return out
}

// soa returns the SOA for a negative answer, its TTL lowered to MINIMUM (RFC 2308 section 3).
func (z *zoneData) soa() []dns.RR {
	var out []dns.RR
	for _, rr := range z.sets[z.name][dns.TypeSOA] {
		soa := dns.Copy(rr).(*dns.SOA)
		soa.Hdr.Ttl = min(soa.Hdr.Ttl, soa.Minttl)
		out = append(out, soa)
	}
	return out
}
