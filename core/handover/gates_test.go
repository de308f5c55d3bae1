package handover

import (
	"crypto/ecdsa"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover/compare"
	"beacon/core/record"
)

var (
	domain = dnsname.MustParse("saltmarsh-ferries.example")
	oak    = names("oak-1.plover.test", "oak-2.plover.test")
	quay   = names("quay-11.heron.test", "quay-14.heron.test")
	now    = time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
)

func answers(name dnsname.Name, address string) evidence.ServerAnswer {
	return evidence.ServerAnswer{Server: evidence.Server{Name: name, Address: address}, Answer: evidence.Positive}
}

// healthy is a move that nothing stands against: two parents that were asked for DS and have none, and both sides answering over both
// families.
func healthy() Facts {
	s := evidence.Sweep{Domain: domain, Ended: now}
	for _, p := range names("a.nic.example", "b.nic.example") {
		s.Parents = append(s.Parents, evidence.ParentAnswer{Server: evidence.Server{Name: p, Address: "192.0.2.53:53"}, Answer: evidence.Referral, NS: oak, AskedDS: true})
	}
	for i, n := range append(append([]dnsname.Name{}, oak...), quay...) {
		s.Servers = append(s.Servers, answers(n, "192.0.2."+string(rune('1'+i))+":53"), answers(n, "[2001:db8::"+string(rune('1'+i))+"]:53"))
	}
	return Facts{Domain: domain, Target: quay, Old: oak, Sweep: s, Margin: 10 * time.Minute}
}

func each(f *Facts, set []dnsname.Name, six bool, change func(*evidence.ServerAnswer)) {
	for i := range f.Sweep.Servers {
		a := &f.Sweep.Servers[i]
		for _, n := range set {
			if a.Name == n && (!six || strings.HasPrefix(a.Address, "[")) {
				change(a)
			}
		}
	}
}

func silent(a *evidence.ServerAnswer) { a.Answer, a.Problem = evidence.Silent, "no answer in time" }

func drop(f *Facts, keep func(evidence.ServerAnswer) bool) {
	var list []evidence.ServerAnswer
	for _, a := range f.Sweep.Servers {
		if keep(a) {
			list = append(list, a)
		}
	}
	f.Sweep.Servers = list
}

func ds(t *testing.T, text string) dnssec.Records {
	rr, err := dns.NewRR(text)
	require.NoError(t, err)
	return dnssec.Records{rr}
}

// Each gate is closed by evidence against it, and by evidence that is missing; and open else.
func TestGates(t *testing.T) {
	some := "saltmarsh-ferries.example. 3600 IN DS 12345 13 2 0123456789ABCDEF0123456789ABCDEF0123456789ABCDEF0123456789ABCDEF"
	cds := strings.Replace(some, "IN DS", "IN CDS", 1)
	without6 := func(f *Facts) { // of this machine
		for i := range f.Sweep.Servers {
			if strings.HasPrefix(f.Sweep.Servers[i].Address, "[") {
				silent(&f.Sweep.Servers[i])
			}
		}
	}
	lost := []compare.Difference{{Key: record.Key{Name: domain, Type: record.MX}, Kind: compare.Lost, Old: "10 mail.example.", New: "nothing"}}
	for _, c := range []struct {
		name   string
		change func(*Facts)
		closed []string
	}{
		{"nothing against it", func(*Facts) {}, nil},
		{"no answer at all", func(f *Facts) { f.Sweep.Servers = nil }, []string{GateUnheard, GateUnheard}},
		{"one of two names heard", func(f *Facts) { drop(f, func(a evidence.ServerAnswer) bool { return a.Name != quay[1] }) }, []string{GateUnheard}},
		{"one address of four does not know the zone", func(f *Facts) { f.Sweep.Servers[4].Answer = evidence.Lame }, []string{GateNotReady}},
		{"a name without an address", func(f *Facts) {
			f.Sweep.NoAddress = []evidence.NameProblem{{Name: quay[0], Problem: "NXDOMAIN"}}
		}, []string{GateUnresolvable}},
		{"no TCP", func(f *Facts) { f.Sweep.Servers[4].NoTCP = "refused" }, []string{GateNoTCP}},
		{"TCP only", func(f *Facts) { f.Sweep.Servers[4].NoUDP = true }, []string{GateNotReady}},
		{"one IPv6 address silent where others answer over IPv6", func(f *Facts) { silent(&f.Sweep.Servers[5]) }, []string{GateNotReady}},
		{"a machine without IPv6: the family is named once", without6, []string{GateFamily}},
		{"a machine without IPv6, which is known", func(f *Facts) { without6(f); f.NoIPv6 = true }, nil},
		{"a machine without IPv6, and a vantage point that has it", func(f *Facts) {
			without6(f)
			f.Sweep.Places = []evidence.Place{{Name: "north", Servers: []evidence.ServerAnswer{answers(quay[0], "[2001:db8::3]:53"), answers(quay[1], "[2001:db8::4]:53")}}}
		}, nil},
		{"an IPv6-only nameserver that nobody could ask stays closed", func(f *Facts) {
			without6(f)
			f.NoIPv6 = true
			drop(f, func(a evidence.ServerAnswer) bool { return a.Name != quay[1] || strings.HasPrefix(a.Address, "[") })
		}, []string{GateUnheard}},
		{"a DS at one parent", func(f *Facts) { f.Sweep.Parents[1].DS = ds(t, some) }, []string{GateDS}},
		{"a parent that was not asked for DS", func(f *Facts) { f.Sweep.Parents[0].AskedDS = false }, []string{GateDSUnknown}},
		{"a DS that was removed a moment ago", func(f *Facts) {
			f.DS, f.KeyTTL = delegation.DSState{Known: true, Changed: now.Add(-time.Hour), Was: "x", Held: 3600}, 3600
		}, []string{GateDSWait}},
		{"a DS that was removed, its TTL and that of the keys over, and the margin not", func(f *Facts) {
			f.DS, f.KeyTTL = delegation.DSState{Known: true, Changed: now.Add(-2*time.Hour - time.Minute), Was: "x", Held: 3600}, 3600
		}, []string{GateDSWait}},
		{"a DS that was removed long ago", func(f *Facts) {
			f.DS, f.KeyTTL = delegation.DSState{Known: true, Changed: now.Add(-3 * time.Hour), Was: "x", Held: 3600}, 3600
		}, nil},
		{"a DS that was removed, keys never heard", func(f *Facts) {
			f.DS = delegation.DSState{Known: true, Changed: now.Add(-24 * time.Hour), Was: "x", Held: 3600}
		}, []string{GateDSWait}},
		{"the new zone asks for a DS", func(f *Facts) { f.Sweep.Servers[4].Requests = ds(t, cds) }, []string{GateCDS}},
		{"the old zone asks for a DS, by its key", func(f *Facts) {
			f.Sweep.Servers[0].Requests = ds(t, "saltmarsh-ferries.example. 3600 IN CDNSKEY 257 3 13 AAAA")
		}, []string{GateCDS}},
		{"the old zone asks for copies", func(f *Facts) {
			f.Sweep.Servers[0].Requests = ds(t, "saltmarsh-ferries.example. 3600 IN CSYNC 1 3 A NS AAAA")
		}, []string{GateCSYNC}},
		{"the old zone asks for removal", func(f *Facts) { f.Sweep.Servers[0].Requests = ds(t, "saltmarsh-ferries.example. 3600 IN CDS 0 0 0 00") }, nil},
		{"the old zone asks for removal, by its key", func(f *Facts) {
			f.Sweep.Servers[0].Requests = ds(t, "saltmarsh-ferries.example. 3600 IN CDNSKEY 0 3 0 AA==")
		}, nil},
		{"both sides ask for the DS of the key that both have", func(f *Facts) {
			for i := range f.Sweep.Servers {
				f.Sweep.Servers[i].Requests, f.Sweep.Servers[i].Keys = ds(t, cds), ds(t, "saltmarsh-ferries.example. 3600 IN DNSKEY 257 3 13 AAAA")
			}
		}, nil},
		{"a locked registration", func(f *Facts) { f.Registration.Status = []string{"client update prohibited"} }, []string{GateLocked}},
		{"a transfer lock is none of this", func(f *Facts) { f.Registration.Status = []string{"client transfer prohibited"} }, nil},
		{"a hold", func(f *Facts) { f.Registration.Status = []string{"server hold"} }, []string{GateHold}},
		{"mail is lost", func(f *Facts) { f.Differences = lost }, []string{GateAnswers}},
		{"mail is lost, as agreed", func(f *Facts) { f.Differences, f.Agreed = lost, compare.Digest(lost) }, nil},
		{"another difference than was agreed", func(f *Facts) {
			f.Differences, f.Agreed = []compare.Difference{{Key: lost[0].Key, Kind: compare.Lost, Old: "20 mail.example.", New: "nothing"}}, compare.Digest(lost)
		}, []string{GateAnswers}},
		{"TTLs alone", func(f *Facts) { f.Differences = []compare.Difference{{Key: lost[0].Key, Kind: compare.TTL}} }, nil},
		{"the side being left answers nothing: only the target counts", func(f *Facts) { each(f, oak, false, silent); f.Differences = lost }, nil},
		{"a first delegation", func(f *Facts) {
			f.Old, f.Differences = nil, lost
			for i := range f.Sweep.Parents {
				f.Sweep.Parents[i] = evidence.ParentAnswer{Server: f.Sweep.Parents[i].Server, Answer: evidence.NoName}
			}
		}, nil},
		{"a first delegation, and the registrar has a DS of other keys", func(f *Facts) {
			f.Old, f.Registration.DS = nil, []record.Data{"11111 13 2 1122334455667788990011223344556677889900112233445566778899001122"}
			for i := range f.Sweep.Parents {
				f.Sweep.Parents[i] = evidence.ParentAnswer{Server: f.Sweep.Parents[i].Server, Answer: evidence.NoName}
			}
		}, []string{GateDS}},
		{"a first delegation, and the registrar has the key that the zone is signed with", func(f *Facts) {
			key := "257 3 13 mdsswUyr3DPW132mOi8V9xESWE8jTo0dxCjjnopKl+GqJxpVXckHAeF+KkxLbxILfDLUT0rAK9iUzy1L53eKGQ=="
			f.Old, f.Registration.Keys = nil, []record.Data{record.Data(key)}
			for i := range f.Sweep.Parents {
				f.Sweep.Parents[i] = evidence.ParentAnswer{Server: f.Sweep.Parents[i].Server, Answer: evidence.NoName}
			}
			for i := range f.Sweep.Servers {
				f.Sweep.Servers[i].Keys = ds(t, "saltmarsh-ferries.example. 3600 IN DNSKEY "+key)
			}
		}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := healthy()
			c.change(&f)
			assert.Equal(t, c.closed, codes(Closed(Gates(f), nil)))
			assert.Empty(t, Closed(Gates(f), c.closed), "each is passed by name")
			for _, found := range Gates(f) {
				assert.True(t, found.Severity != finding.Error || found.Remedy != "", "a closed gate says what to do: %s", found.Code)
			}
		})
	}
}

// signer returns a key, and a function that signs a set with it.
func signer(t *testing.T) (*dns.DNSKEY, func(set ...dns.RR) dnssec.Records) {
	key := &dns.DNSKEY{Hdr: dns.RR_Header{Name: domain.String(), Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET, Ttl: 3600}, Flags: 257, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
	private, err := key.Generate(256)
	require.NoError(t, err)
	return key, func(set ...dns.RR) dnssec.Records {
		sig := &dns.RRSIG{Hdr: dns.RR_Header{Ttl: 3600}, Inception: uint32(now.Add(-time.Hour).Unix()), Expiration: uint32(now.Add(time.Hour).Unix()), KeyTag: key.KeyTag(), SignerName: domain.String(), Algorithm: key.Algorithm}
		require.NoError(t, sig.Sign(private.(*ecdsa.PrivateKey), set))
		return append(dnssec.Records(set), sig)
	}
}

// soaAndNS are the sets of the domain that are always asked for.
func soaAndNS(t *testing.T) (soa, ns dns.RR) {
	rr := func(text string) dns.RR { r, err := dns.NewRR(text); require.NoError(t, err); return r }
	return rr(domain.String() + " 300 IN SOA a.heron.test. b.heron.test. 1 2 3 4 5"), rr(domain.String() + " 300 IN NS quay-11.heron.test.")
}

// Where both sides serve the same keys, and what the new one answers is validly signed, a DS is no obstacle.
func TestGateOfSharedKeys(t *testing.T) {
	key, sign := signer(t)
	soa, ns := soaAndNS(t)
	f := healthy()
	f.Sweep.Parents[0].DS, f.Sweep.Parents[1].DS = dnssec.Records{key.ToDS(dns.SHA256)}, dnssec.Records{key.ToDS(dns.SHA256)}
	each(&f, append(append([]dnsname.Name{}, oak...), quay...), false, func(a *evidence.ServerAnswer) {
		a.Keys, a.Signed = sign(key), append(sign(soa), sign(ns)...)
	})
	assert.Empty(t, Closed(Gates(f), nil))
	f.Sweep.Servers[4].Signed = dnssec.Records{soa, ns}
	assert.Equal(t, []string{GateDS}, codes(Closed(Gates(f), nil)), "one new server answers without signatures")
	f.Sweep.Servers[4].Signed = append(sign(soa), sign(ns)...)
	f.Sweep.Servers[0].Keys = nil
	assert.Equal(t, []string{GateDS}, codes(Closed(Gates(f), nil)), "the old side serves other keys")
}
