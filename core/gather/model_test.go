package gather

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
)

var zone = dnsname.MustParse("a.example")

// style is how a nameserver answers where it has a choice.
type style struct {
	compact  bool // names that do not exist are answered as ones without data (RFC 9824)
	oddTypes bool // types that it does not know get no answer
	flat     bool // the provider looks the apex address up elsewhere: its TTL counts down
	place    bool // the apex address depends on where a visitor is
	all      bool // every name gets an address, without a wildcard record
}

// authority answers for a zone as RFC 1034 section 4.3.2 and RFC 4592 say. It shares nothing with what is tested.
type authority struct {
	sets     map[string]map[uint16][]dns.RR
	children map[string]map[uint16][]dns.RR // apexes of zones below, on the same server
	style    style
	asked    int
}

func authorityOf(style style, lines ...string) *authority {
	a := &authority{sets: map[string]map[uint16][]dns.RR{}, children: map[string]map[uint16][]dns.RR{}, style: style}
	a.add(a.sets, "a.example. 300 IN SOA ns1.old.test. admin.old.test. 7 3600 900 604800 60", "a.example. 300 IN NS ns1.old.test.")
	a.add(a.sets, lines...)
	return a
}

func (a *authority) add(to map[string]map[uint16][]dns.RR, lines ...string) {
	for _, line := range lines {
		rr, err := dns.NewRR(line)
		if err != nil {
			panic(err)
		}
		name := dns.CanonicalName(rr.Header().Name)
		if to[name] == nil {
			to[name] = map[uint16][]dns.RR{}
		}
		to[name][rr.Header().Rrtype] = append(to[name][rr.Header().Rrtype], rr)
	}
}

func (a *authority) exists(name string) bool {
	for have := range a.sets {
		if have == name || strings.HasSuffix(have, "."+name) {
			return true
		}
	}
	return false
}

func (a *authority) answer(k record.Key) *dns.Msg {
	a.asked++
	name, t := k.Name.String(), uint16(k.Type)
	if a.style.oddTypes && t > 65000 {
		return nil
	}
	m := new(dns.Msg).SetQuestion(name, t)
	m.Response = true
	for child, sets := range a.children {
		if dns.IsSubDomain(child, name) && !(name == child && t == dns.TypeDS) {
			m.Authoritative = true
			if name == child {
				m.Answer = sets[t]
			}
			if len(m.Answer) == 0 {
				soa, _ := dns.NewRR(child + " 300 IN SOA ns1.old.test. admin.old.test. 3 3600 900 604800 60")
				m.Ns = []dns.RR{soa}
			}
			return m
		}
	}
	cut := ""
	for at := name; at != zone.String() && dns.IsSubDomain(zone.String(), at); _, at, _ = strings.Cut(at, ".") { // the highest one counts
		if len(a.sets[at][dns.TypeNS]) > 0 && !(at == name && t == dns.TypeDS) {
			cut = at
		}
	}
	if cut != "" {
		m.Ns = a.sets[cut][dns.TypeNS]
		for _, rr := range m.Ns {
			host := dns.CanonicalName(rr.(*dns.NS).Ns)
			m.Extra = append(append(m.Extra, a.sets[host][dns.TypeA]...), a.sets[host][dns.TypeAAAA]...)
		}
		return m
	}
	m.Authoritative = true
	soa := a.sets[zone.String()][dns.TypeSOA]
	sets, there := a.sets[name]
	if !there && !a.exists(name) {
		encloser := name
		for !a.exists(encloser) {
			_, encloser, _ = strings.Cut(encloser, ".")
		}
		if sets, there = a.sets["*."+encloser]; !there {
			if a.style.all && !strings.HasPrefix(name, "*.") {
				if t == dns.TypeA {
					m.Answer = append(m.Answer, &dns.A{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60}, A: []byte{192, 0, 2, 250}})
				} else {
					m.Ns = soa
				}
				return m
			}
			m.Ns = soa
			if a.style.compact {
				m.Ns = append(slices.Clone(soa), &dns.NSEC{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeNSEC, Class: dns.ClassINET, Ttl: 60}, NextDomain: `\000.` + name, TypeBitMap: []uint16{46, 47, 128}})
			} else {
				m.Rcode = dns.RcodeNameError
			}
			return m
		}
	}
	data := sets[t]
	if len(data) == 0 {
		data = sets[dns.TypeCNAME]
	}
	for _, rr := range data {
		rr = dns.Copy(rr)
		rr.Header().Name = name
		if a.style.place && name == zone.String() && t == dns.TypeA {
			m.SetEdns0(1232, false).IsEdns0().Option = []dns.EDNS0{&dns.EDNS0_SUBNET{Code: dns.EDNS0SUBNET, Family: 1, SourceNetmask: 24, SourceScope: 20, Address: []byte{198, 51, 96, 0}}}
		}
		if a.style.flat && name == zone.String() && t == dns.TypeA {
			rr.Header().Ttl -= uint32(a.asked % 50)
		}
		m.Answer = append(m.Answer, rr)
	}
	if len(data) == 0 {
		m.Ns = soa
	}
	return m
}

// truth returns what the zone contains besides its plumbing, as lines.
func (a *authority) truth() (lines []string) {
	for _, sets := range a.sets {
		for _, list := range sets {
			for _, rr := range list {
				r, err := record.FromRR(rr)
				if err == nil && !Plumbing(zone, r.Key()) {
					lines = append(lines, r.String())
				}
			}
		}
	}
	slices.Sort(lines)
	return lines
}

func linesOf(c record.Contents) (lines []string) {
	for _, r := range c.Records() {
		if !Plumbing(zone, r.Key()) {
			lines = append(lines, r.String())
		}
	}
	slices.Sort(lines)
	return lines
}

// drawn is a zone by chance: names of several levels, wildcards, empty names between, delegations with glue, aliases.
func drawn(rng *rand.Rand) (lines, names []string) {
	n := 0
	add := func(label, rest string) {
		n++
		name := label + ".a.example."
		if label == "@" {
			name = "a.example."
		}
		lines = append(lines, fmt.Sprintf("%s %d IN %s", name, 60+60*rng.IntN(3), rest))
		names = append(names, name)
	}
	address := func() string { n++; return fmt.Sprintf("A 192.0.2.%d", 1+n%240) }
	add("@", address())
	add("@", "MX 10 post.a.example.")
	add("post", address())
	for i := range 3 + rng.IntN(8) {
		label := fmt.Sprintf("n%d", i)
		for range rng.IntN(3) {
			label += fmt.Sprintf(".l%d", rng.IntN(3))
		}
		switch rng.IntN(7) {
		case 0:
			add("*."+label, address())
			add("*."+label, `TXT "below"`)
		case 1:
			host := "ns1.cut" + label
			add("cut"+label, "NS "+host+".a.example.")
			add(host, address())
			names = names[:len(names)-1] // nobody asks below a cut
		case 2:
			add(label, "CNAME post.a.example.")
		case 3:
			add(label, address())
			add(label, "AAAA 2001:db8::"+fmt.Sprint(i+1))
			add(label, `TXT "words of `+label+`"`)
		case 4:
			add("_svc._tcp."+label, "SRV 0 5 443 post.a.example.")
		default:
			add(label, address())
		}
	}
	if rng.IntN(3) == 0 {
		add("*", address())
	}
	return lines, names
}

// play has a server answer all that is asked, with several questions open at a time.
func play(a *Asking, answer func(record.Key) *dns.Msg, rng *rand.Rand) {
	var open []Question
	for {
		open = append(open, a.Next(1+rng.IntN(4))...)
		if len(open) == 0 {
			return
		}
		at := rng.IntN(len(open))
		q := open[at]
		open = slices.Delete(open, at, at+1)
		a.Take(q, answer(q.Key))
	}
}

// silence answers nothing.
func (a *authority) silence(record.Key) *dns.Msg { return nil }

// apart returns what only the first list has, and what only the second one has.
func apart(a, b []string) (lack, more []string) {
	for _, line := range a {
		if !slices.Contains(b, line) {
			lack = append(lack, line)
		}
	}
	for _, line := range b {
		if !slices.Contains(a, line) {
			more = append(more, line)
		}
	}
	return lack, more
}
