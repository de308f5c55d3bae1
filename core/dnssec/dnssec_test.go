package dnssec

import (
	"crypto"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var now = time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)

const zone = "saltmarsh-ferries.example."

// signer signs sets with one key.
type signer struct {
	t      testing.TB
	key    *dns.DNSKEY
	secret crypto.Signer
}

func newSigner(t testing.TB) signer {
	k := &dns.DNSKEY{Hdr: dns.RR_Header{Name: zone, Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET, Ttl: 300}, Flags: dns.ZONE | dns.SEP, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
	secret, err := k.Generate(256)
	require.NoError(t, err)
	return signer{t, k, secret.(crypto.Signer)}
}

func (s signer) sign(from, until time.Time, set ...dns.RR) *dns.RRSIG {
	sig := &dns.RRSIG{Inception: uint32(from.Unix()), Expiration: uint32(until.Unix()), KeyTag: s.key.KeyTag(), SignerName: zone, Algorithm: s.key.Algorithm}
	sig.Hdr.Ttl = set[0].Header().Ttl
	require.NoError(s.t, sig.Sign(s.secret, set))
	return sig
}

func (s signer) fresh(set ...dns.RR) *dns.RRSIG {
	return s.sign(now.Add(-time.Hour), now.Add(time.Hour), set...)
}

func rr(text string) dns.RR {
	out, err := dns.NewRR(text)
	if err != nil {
		panic(err)
	}
	return out
}

func TestVerify(t *testing.T) {
	s, other := newSigner(t), newSigner(t)
	set := []dns.RR{rr("www." + zone + " 300 A 192.0.2.1"), rr("www." + zone + " 300 A 192.0.2.2")}
	keys := []*dns.DNSKEY{s.key}
	good := s.fresh(set...)
	for _, c := range []struct {
		name string
		set  []dns.RR
		sigs []*dns.RRSIG
		kind Kind
	}{
		{"good", set, []*dns.RRSIG{good}, ""},
		{"in another order", []dns.RR{set[1], set[0]}, []*dns.RRSIG{good}, ""},
		{"with a lower TTL, as a cache gives it", []dns.RR{rr("www." + zone + " 7 A 192.0.2.1"), rr("www." + zone + " 7 A 192.0.2.2")}, []*dns.RRSIG{good}, ""},
		{"one of two fits", set, []*dns.RRSIG{other.fresh(set...), good}, ""},
		{"none", set, nil, Unsigned},
		{"a record less", set[:1], []*dns.RRSIG{good}, SignatureWrong},
		{"other data", []dns.RR{set[0], rr("www." + zone + " 300 A 192.0.2.3")}, []*dns.RRSIG{good}, SignatureWrong},
		{"over", set, []*dns.RRSIG{s.sign(now.Add(-2*time.Hour), now.Add(-time.Hour), set...)}, SignatureOver},
		{"early", set, []*dns.RRSIG{s.sign(now.Add(time.Hour), now.Add(2*time.Hour), set...)}, SignatureEarly},
		{"by a key that is not published", set, []*dns.RRSIG{other.fresh(set...)}, SignerUnknown},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := Verify(c.set, c.sigs, keys, zone, now)
			if c.kind == "" {
				require.Nil(t, p.Fault)
				assert.Equal(t, Secure, p.State)
				assert.Equal(t, now.Add(time.Hour), p.Ends.UTC())
				return
			}
			assert.Equal(t, Bogus, p.State)
			assert.Equal(t, c.kind, p.Fault.Kind, p.Fault.Detail)
		})
	}
}

// A zone that sends thousands of keys with one tag, and as many signatures, does not make us verify them all.
func TestVerifyIsBounded(t *testing.T) {
	s := newSigner(t)
	set := []dns.RR{rr("www." + zone + " 300 A 192.0.2.1")}
	wrong := s.fresh(rr("www." + zone + " 300 A 192.0.2.9"))
	sigs, keys := make([]*dns.RRSIG, 3000), make([]*dns.DNSKEY, 3000)
	for i := range sigs {
		sigs[i], keys[i] = wrong, s.key
	}
	began := time.Now()
	assert.Equal(t, Bogus, Verify(set, sigs, keys, zone, now).State)
	assert.Less(t, time.Since(began), 2*time.Second)
}

func TestMomentsGoRound(t *testing.T) {
	late := time.Date(2106, 2, 7, 6, 28, 10, 0, time.UTC) // seconds since 1970 end at :15
	assert.Equal(t, late.Add(20*time.Second), moment(uint32(late.Add(20*time.Second).Unix()), late))
	assert.Equal(t, late.Add(-time.Hour), moment(uint32(late.Add(-time.Hour).Unix()), late))
}

// chainOf makes the NSEC or NSEC3 chain of a zone that has the given names below its apex, signed.
func chainOf(s signer, names []string, hashed bool) Records {
	owners := map[string][]uint16{zone: {dns.TypeSOA, dns.TypeNS}}
	for _, n := range names {
		owners[n+"."+zone] = []uint16{dns.TypeA}
	}
	list := make([]string, 0, len(owners))
	for n := range owners {
		list = append(list, n)
	}
	slices.SortFunc(list, compare)
	if hashed {
		slices.SortFunc(list, func(a, b string) int {
			return strings.Compare(dns.HashName(a, dns.SHA1, 0, ""), dns.HashName(b, dns.SHA1, 0, ""))
		})
	}
	var out Records
	for i, n := range list {
		next := list[(i+1)%len(list)]
		var proof dns.RR = &dns.NSEC{Hdr: dns.RR_Header{Name: n, Rrtype: dns.TypeNSEC, Class: dns.ClassINET, Ttl: 300}, NextDomain: next, TypeBitMap: owners[n]}
		if hashed {
			proof = &dns.NSEC3{Hdr: dns.RR_Header{Name: dns.HashName(n, dns.SHA1, 0, "") + "." + zone, Rrtype: dns.TypeNSEC3, Class: dns.ClassINET, Ttl: 300},
				Hash: dns.SHA1, HashLength: 20, NextDomain: dns.HashName(next, dns.SHA1, 0, ""), TypeBitMap: owners[n]}
		}
		out = append(out, proof, s.fresh(proof))
	}
	return out
}

// The law of denial: by the whole chain of a zone, exactly those names and types can be denied that it does not have.
func TestDenialLaw(t *testing.T) {
	s := newSigner(t)
	rapid.Check(t, func(r *rapid.T) {
		label := rapid.StringMatching(`[a-e]{1,2}`)
		names := rapid.SliceOfNDistinct(label, 1, 6, rapid.ID).Draw(r, "names")
		hashed := rapid.Bool().Draw(r, "hashed")
		chain := chainOf(s, names, hashed)
		for range 6 {
			asked := label.Draw(r, "asked")
			kind := rapid.SampledFrom([]uint16{dns.TypeA, dns.TypeTXT, 65400}).Draw(r, "type")
			d := Absent(asked+"."+zone, kind, chain, []*dns.DNSKEY{s.key}, zone, now)
			there := slices.Contains(names, asked) && kind == dns.TypeA
			if there == (d.State == Secure) {
				r.Fatalf("%s %d in %v, hashed %v: %s", asked, kind, names, hashed, d.State)
			}
		}
	})
}

func TestDenialNeedsAllOfIt(t *testing.T) {
	s := newSigner(t)
	keys := []*dns.DNSKEY{s.key}
	for _, hashed := range []bool{false, true} {
		chain := chainOf(s, []string{"bb", "dd"}, hashed)
		assert.Equal(t, Secure, Absent("cc."+zone, dns.TypeA, chain, keys, zone, now).State)
		assert.Equal(t, DenialMissing, Absent("cc."+zone, dns.TypeA, nil, keys, zone, now).Fault.Kind)
		for i := 0; i < len(chain); i += 2 { // with one record alone, at most those can be denied that it covers with their wildcard
			d := Absent("cc."+zone, dns.TypeA, chain[i:i+2], keys, zone, now)
			if d.State == Secure {
				assert.False(t, hashed, "NSEC3 needs at least two records")
			}
		}
		unsigned := Records{}
		for i := 0; i < len(chain); i += 2 {
			unsigned = append(unsigned, chain[i])
		}
		assert.Equal(t, Unsigned, Absent("cc."+zone, dns.TypeA, unsigned, keys, zone, now).Fault.Kind)
	}
}

// Evidence of real servers: what a real validating resolver thought of each was compared when it was recorded.
func TestRecordedChains(t *testing.T) {
	for name, want := range map[string]State{"signed": Secure, "ed448": Secure, "ed25519": Secure, "p384": Secure, "rsa": Secure, "nsec3": Secure, "sha1ds": Secure, "plain": Insecure,
		"island": Insecure, "odddigest": Insecure, "oddalgorithm": Insecure, "otherkey": Bogus, "unsigned": Bogus, "expired": Bogus, "early": Bogus, "keysbare": Bogus} {
		t.Run(name, func(t *testing.T) {
			text, err := os.ReadFile(filepath.Join("..", "delegation", "testdata", name+".json"))
			require.NoError(t, err)
			var s struct {
				Domain  string
				Ended   time.Time
				Anchors Records
				Chain   []Link
				Parents []struct{ DS Records }
				Servers []struct{ Keys Records }
			}
			require.NoError(t, json.Unmarshal(text, &s))
			own := Link{Zone: s.Domain, DS: s.Parents[0].DS, Keys: s.Servers[0].Keys}
			trust := Follow(s.Anchors, append(s.Chain, own), s.Ended)
			assert.Equal(t, want, trust.State, "%v", trust.Faults)
			assert.Equal(t, want == Bogus, want != Insecure && len(trust.Faults) > 0)

			assert.Equal(t, Indeterminate, Follow(nil, append(s.Chain, own), s.Ended).State, "without anchors nothing can be told")
			foreign := newSigner(t)
			foreign.key.Hdr.Name = "."
			ds := foreign.key.ToDS(dns.SHA256)
			assert.Equal(t, Bogus, Follow(Records{ds}, append(s.Chain, own), s.Ended).State, "by another root's anchor nothing holds")
		})
	}
}

func TestReadAnchors(t *testing.T) {
	s := newSigner(t)
	line := s.key.ToDS(dns.SHA256).String()
	got, err := ReadAnchors("; the root's\n" + line + "\n")
	require.NoError(t, err)
	assert.Len(t, got.DS(), 1)
	got, err = ReadAnchors(s.key.String())
	require.NoError(t, err)
	assert.Equal(t, line, got[0].String(), "a key is taken for its digest")
	for _, bad := range []string{"", "nonsense", "example. 60 A 192.0.2.1"} {
		_, err := ReadAnchors(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzAbsent(f *testing.F) {
	s := newSigner(f)
	for _, hashed := range []bool{false, true} {
		m := &dns.Msg{Ns: chainOf(s, []string{"bb", "dd"}, hashed)}
		packed, err := m.Pack()
		require.NoError(f, err)
		f.Add(packed, "cc")
	}
	f.Fuzz(func(t *testing.T, packed []byte, label string) {
		m := new(dns.Msg)
		name := fmt.Sprintf("%s.%s", label, zone)
		if _, ok := dns.IsDomainName(name); !ok || m.Unpack(packed) != nil {
			return
		}
		records := Records(m.Ns)
		Absent(name, dns.TypeA, records, []*dns.DNSKEY{s.key}, zone, now)
		text, err := json.Marshal(records)
		require.NoError(t, err)
		_ = text
		Follow(records, []Link{{Zone: ".", Keys: records}, {Zone: zone, DS: records, Keys: records}}, now)
	})
}
