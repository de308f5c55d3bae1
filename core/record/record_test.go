package record

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
)

var zone = dnsname.MustParse("saltmarsh-ferries.example")

func TestCanonicalData(t *testing.T) {
	for _, c := range []struct{ typ, text, want string }{
		{"A", "192.0.2.40", "192.0.2.40"},
		{"AAAA", "2001:0DB8:0:0::40", "2001:db8::40"},
		{"AAAA", "::ffff:192.0.2.1", "::ffff:192.0.2.1"},
		{"CNAME", "Web", "web.saltmarsh-ferries.example."},
		{"MX", "010 MX1.Post.Example.", "10 mx1.post.example."},
		{"TXT", `plain "two words" "a\;b"`, `"plain" "two words" "a;b"`},
		{"TXT", `"\065\"\\"`, `"A\"\\"`},
		{"CAA", `0 issue "ca.example"`, `0 issue "ca.example"`},
		{"SRV", "1 2 443 Web", "1 2 443 web.saltmarsh-ferries.example."},
		{"DS", "1 8 2 0123456789ABCDEF0123456789abcdef0123456789ABCDEF0123456789abcdef", "1 8 2 0123456789ABCDEF0123456789ABCDEF0123456789ABCDEF0123456789ABCDEF"},
		{"A", `\# 4 C0000228`, "192.0.2.40"},
		{"TYPE65280", `\# 2 ABcd`, `\# 2 abcd`},
	} {
		typ, err := ParseType(c.typ)
		require.NoError(t, err)
		d, err := ParseData(typ, c.text, zone)
		require.NoError(t, err, c.text)
		assert.Equal(t, Data(c.want), d)
		again, err := ParseData(typ, string(d), zone)
		require.NoError(t, err, d)
		assert.Equal(t, d, again, "canonical form is a fixed point")
	}
}

func TestDataRefused(t *testing.T) {
	for _, c := range []struct{ typ, text, reason string }{
		{"A", "https://web.example/", "web address"},
		{"A", "192.0.2.256", "no IP address"},
		{"A", "2001:db8::1", "use type AAAA"},
		{"AAAA", "192.0.2.1", "use type A"},
		{"CNAME", "https://web.example/", "web address"},
		{"MX", "mail.example.", "preference"},
		{"MX", "70000 mail.example.", "65535"},
		{"TXT", `v=DMARC1; p=none`, "outside quotes"},
		{"TXT", `"open`, "never closed"},
		{"TXT", "", "missing"},
		{"A", "192.0.2.1\nevil A 192.0.2.2", "line break"},
		{"SRV", "1 2 web", "no SRV data"},
	} {
		typ, _ := ParseType(c.typ)
		_, err := ParseData(typ, c.text, zone)
		require.Error(t, err, c.text)
		assert.Contains(t, err.Error(), c.reason)
	}
	for _, text := range []string{"ANY", "AXFR", "OPT", "NOPE", "TYPE70000", "TYPE0"} {
		_, err := ParseType(text)
		assert.Error(t, err, text)
	}
}

// Whatever way a record comes, over the wire or as text, its form is the same.
func TestWireAndTextAgree(t *testing.T) {
	for _, line := range []string{
		"WWW.Example. 300 IN AAAA 2001:db8:0::1", "a.example. 1 IN MX 5 Mail.Example.", "a.example. 1 IN TXT a b",
		"a.example. 1 IN SOA NS.Example. Admin.Example. 1 2 3 4 5", "a.example. 1 IN AAAA ::ffff:192.0.2.9",
	} {
		rr, err := dns.NewRR(line)
		require.NoError(t, err)
		r, err := FromRR(rr)
		require.NoError(t, err)
		text := strings.TrimPrefix(rr.String(), rr.Header().String())
		d, err := ParseData(r.Type, text, dnsname.Root)
		require.NoError(t, err)
		assert.Equal(t, d, r.Data)
	}
}

func TestTarget(t *testing.T) {
	assert.Equal(t, "mx.example.", Data("10 mx.example.").Target(MX).String())
	assert.Equal(t, "web.example.", Data("1 2 443 web.example.").Target(SRV).String())
	assert.Equal(t, "web.example.", Data("web.example.").Target(CNAME).String())
	assert.True(t, Data("192.0.2.1").Target(A).IsZero())
}

func someRecords(t *rapid.T) []Record {
	names := []dnsname.Name{zone, dnsname.MustParse("www.saltmarsh-ferries.example"), dnsname.MustParse("pier.saltmarsh-ferries.example")}
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Record {
		return Record{rapid.SampledFrom(names).Draw(t, "name"), rapid.Uint32Range(1, 3).Draw(t, "ttl"),
			rapid.SampledFrom([]Type{A, TXT}).Draw(t, "type"), rapid.SampledFrom([]Data{"a", "b", "c"}).Draw(t, "data")}
	}), 0, 20).Draw(t, "records")
}

func TestContentsLaws(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		records := someRecords(t)
		shuffled := append([]Record(nil), records...)
		rand.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		c, d := NewContents(records), NewContents(shuffled)
		if !c.Equal(d) {
			t.Fatalf("order matters: %v, %v", c.Records(), d.Records())
		}
		var sets []Set
		for s := range c.Sets() {
			if !c.Get(s.Key()).Equal(s) {
				t.Fatalf("Get(%s)", s.Key())
			}
			if got := c.Without(s.Key()).With(s); !got.Equal(c) {
				t.Fatalf("without and with %s: %v", s.Key(), got.Records())
			}
			sets = append(sets, s)
		}
		if !ContentsOf(sets...).Equal(c) {
			t.Fatal("sets put together differ")
		}
	})
}

// Signatures at one name have the TTLs of the sets that they cover, not one of their own.
func TestSignaturesKeepTheirTTLs(t *testing.T) {
	sig := func(ttl uint32, covered string) Record {
		data, err := ParseData(Type(dns.TypeRRSIG), covered+" 13 2 60 20300101000000 20200101000000 1 @ AQPS", zone)
		require.NoError(t, err)
		return Record{zone, ttl, Type(dns.TypeRRSIG), data}
	}
	var got []uint32
	for _, r := range NewContents([]Record{sig(300, "A"), sig(60, "AAAA"), sig(7, "MX"), sig(3600, "A")}).Records() {
		got = append(got, r.TTL)
	}
	assert.Equal(t, []uint32{300, 60, 7}, got)
}

func FuzzParseData(f *testing.F) {
	f.Add(uint16(A), "192.0.2.1")
	f.Add(uint16(TXT), `"a;b" c\059`)
	f.Add(uint16(MX), "10 mx.example.")
	f.Add(uint16(65280), `\# 1 ff`)
	f.Fuzz(func(t *testing.T, number uint16, text string) {
		typ, err := ParseType(Type(number).String())
		if err != nil {
			return
		}
		d, err := ParseData(typ, text, zone)
		if err != nil {
			return
		}
		again, err := ParseData(typ, string(d), zone)
		if err != nil || again != d {
			t.Fatalf("%s %q became %q, and that %q, %v", typ, text, d, again, err)
		}
	})
}
