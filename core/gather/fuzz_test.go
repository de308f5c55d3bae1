package gather

import (
	"testing"

	"github.com/miekg/dns"

	"beacon/core/record"
)

// Whatever a server answers, asking and walking end, and no name outside the zone comes of it.
func FuzzAnswers(f *testing.F) {
	server := authorityOf(style{compact: true}, "www.a.example. 60 IN A 192.0.2.1", "*.b.a.example. 60 IN TXT \"x\"", "cut.a.example. 60 IN NS ns.cut.a.example.")
	for _, name := range []string{"a.example.", "www.a.example.", "nobody.a.example.", "x.cut.a.example."} {
		m := new(dns.Msg).SetQuestion(name, dns.TypeA)
		octets, err := server.answer(record.Key{Name: zone, Type: record.SOA}).Pack()
		if err == nil {
			f.Add(octets)
		}
		if octets, err = m.Pack(); err == nil {
			f.Add(octets)
		}
	}
	f.Fuzz(func(t *testing.T, octets []byte) {
		m := new(dns.Msg)
		if m.Unpack(octets) != nil {
			return
		}
		a := NewAsking(zone, Options{Label: "nobody-has-this", Most: 400})
		for list := a.Next(4); len(list) > 0; list = a.Next(4) {
			for _, q := range list {
				if len(m.Question) > 0 { // the name asked for stands in the answer, as it does in ones that count
					for _, rr := range m.Answer {
						rr.Header().Name = q.Key.Name.String()
					}
				}
				a.Take(q, m)
			}
		}
		for set := range a.Outcome("").Contents.Sets() {
			if !set.Name.IsAtOrBelow(zone) {
				t.Fatalf("%s is outside", set.Name)
			}
		}
		w := NewWalk(zone)
		for range mostWalked {
			if _, more := w.Next(); !more {
				return
			}
			w.Take(m)
		}
		t.Fatal("the walk does not end")
	})
}
