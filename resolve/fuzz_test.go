package resolve

import (
	"testing"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Whatever a server answers, reading it ends, and nothing is taken that the server has no say in.
func FuzzAnswer(f *testing.F) {
	add := func(lines ...string) {
		m := new(dns.Msg).SetQuestion("saltmarsh-ferries.example.", dns.TypeNS)
		m.Response = true
		for _, line := range lines {
			rr, err := dns.NewRR(line)
			if err != nil {
				f.Fatal(err)
			}
			m.Ns = append(m.Ns, rr)
			m.Extra = append(m.Extra, rr)
		}
		packed, err := m.Pack()
		if err != nil {
			f.Fatal(err)
		}
		f.Add(packed)
	}
	add("saltmarsh-ferries.example. 60 NS reed-11.plover.test.", "reed-11.plover.test. 60 A 127.0.0.1")
	add("saltmarsh-ferries.example. 60 NS a.saltmarsh-ferries.example.", "a.saltmarsh-ferries.example. 60 AAAA ::1")
	add("example. 60 SOA a. b. 1 2 3 4 5")
	zone, name := dnsname.MustParse("example"), dnsname.MustParse("saltmarsh-ferries.example")
	f.Fuzz(func(t *testing.T, packed []byte) {
		m := new(dns.Msg)
		if m.Unpack(packed) != nil {
			return
		}
		owner, set := referral(m, zone, name)
		if set != nil {
			if !owner.IsBelow(zone) || !name.IsAtOrBelow(owner) {
				t.Fatalf("a referral to %s was taken from the servers of %s on the way to %s", owner, zone, name)
			}
			for glued := range set.glue {
				if !glued.IsBelow(zone) {
					t.Fatalf("glue for %s was taken from the servers of %s", glued, zone)
				}
			}
		}
		negativeTTL(m)
		for _, rr := range m.Answer {
			if r, err := record.FromRR(rr); err == nil && r.Data == "" {
				t.Fatalf("%s became a record without data", rr)
			}
		}
	})
}

// Where a message is read whole, reading it briefly comes to the same: the same header, answers and EDNS.
func FuzzBrief(f *testing.F) {
	add := func(edns bool, answers ...string) {
		m := new(dns.Msg).SetQuestion("saltmarsh-ferries.example.", dns.TypeSOA)
		m.Response, m.Authoritative = true, true
		for _, line := range answers {
			rr, err := dns.NewRR(line)
			if err != nil {
				f.Fatal(err)
			}
			m.Answer, m.Ns = append(m.Answer, rr), append(m.Ns, rr)
		}
		if edns {
			m.SetEdns0(1232, false)
			m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: "0011223344556677"})
			m.Rcode = dns.RcodeBadCookie
		}
		m.Compress = true
		packed, err := m.Pack()
		if err != nil {
			f.Fatal(err)
		}
		f.Add(packed)
	}
	add(false, "saltmarsh-ferries.example. 60 SOA ns.plover.test. host.plover.test. 1 2 3 4 5")
	add(true, "saltmarsh-ferries.example. 60 NS reed-11.plover.test.", "saltmarsh-ferries.example. 60 NS reed-14.plover.test.")
	add(true)
	f.Fuzz(func(t *testing.T, packed []byte) {
		whole, asked := new(dns.Msg), "."
		fine := whole.Unpack(packed) == nil && len(whole.Question) == 1 && whole.Response
		if fine {
			asked = whole.Question[0].Name
		}
		brief, err := newNamebook().readBriefly(packed, asked)
		if !fine || err != nil || brief == nil {
			return
		}
		got, want := *brief, *whole
		if got.Id != want.Id || got.Rcode != want.Rcode || got.Authoritative != want.Authoritative || got.RecursionAvailable != want.RecursionAvailable || len(got.Answer) != len(want.Answer) {
			t.Fatalf("briefly %v, wholly %v", got, want)
		}
		for i, rr := range got.Answer {
			if rr.String() != want.Answer[i].String() {
				t.Fatalf("briefly %v, wholly %v", rr, want.Answer[i])
			}
		}
		a, b := got.IsEdns0(), want.IsEdns0()
		if (a == nil) != (b == nil) || a != nil && a.String() != b.String() {
			t.Fatalf("briefly %v, wholly %v", a, b)
		}
	})
}
