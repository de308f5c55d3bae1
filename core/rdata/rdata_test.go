package rdata

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
)

var zone = dnsname.MustParse("saltmarsh-ferries.example")

func typed(t testing.TB, name string) uint16 {
	number, ok := TypeNumber(name)
	require.True(t, ok, name)
	return number
}

// What is valid, and the one form that it has afterwards.
func TestValid(t *testing.T) {
	for _, c := range []struct{ typ, text, want string }{
		{"A", `\# 4 C0000228`, "192.0.2.40"},
		{"MX", `\# 7 000A 03 777777 00`, "10 www."},
		{"TYPE65280", `\# 0`, `\# 0`},
		{"TYPE65280", `\# 3 ab cd EF`, `\# 3 abcdef`},
		{"NULL", `\# 0`, `\# 0`},
		{"APL", "", `\# 0`},
		{"APL", "1:192.0.2.0/24 !2:2001:db8::/32 1:0.0.0.0/0 2:::/128", "1:192.0.2.0/24 !2:2001:db8::/32 1:0.0.0.0/0 2:::/128"},
		{"NAPTR", `100 10 u E2U+sip !^.*$!sip:a@b! .`, `100 10 "u" "E2U+sip" "!^.*$!sip:a@b!" .`},
		{"HINFO", `PDP-11 "UNIX V"`, `"PDP-11" "UNIX V"`},
		{"X25", "311061700956", `"311061700956"`},
		{"ISDN", "150862028003217", `"150862028003217"`},
		{"ISDN", `"150862028003217" 004`, `"150862028003217" "004"`},
		{"GPOS", `-32.6882 "116.8652" 10.0`, "-32.6882 116.8652 10.0"},
		{"LOC", "53 N 6 E 2m", "53 00 0.000 N 06 00 0.000 E 2m 1m 10000m 10m"},
		{"LOC", "53 12 N 6 5 12.5 W -2.5 0.5 100 0", "53 12 0.000 N 06 05 12.500 W -2.50m 0.50m 100m 0m"},
		{"LOC", "90 S 180 W -100000", "90 00 0.000 S 180 00 0.000 W -100000m 1m 10000m 10m"},
		{"DS", "1 RSASHA256 1 00112233445566778899 aabbccddeeff00112233", "1 8 1 00112233445566778899AABBCCDDEEFF00112233"},
		{"DS", "1 8 200 00", "1 8 200 00"},
		{"CDS", "0 0 0 00", "0 0 0 00"},
		{"CDNSKEY", "0 3 0 AA==", "0 3 0 AA=="},
		{"DNSKEY", "257 3 ED25519 mdsswUyr3DPW132mOi8V9xESWE8jTo0dxCjjnopKl+E=", "257 3 15 mdsswUyr3DPW132mOi8V9xESWE8jTo0dxCjjnopKl+E="},
		{"KEY", "256 EMAIL 5 AQPS", "256 2 5 AQPS"},
		{"KEY", "49152 3 0", "49152 3 0"},
		{"CERT", "PGP 0 0 AQPS", "PGP 0 0 AQPS"},
		{"CERT", "3 0 RSASHA256 AQPS", "PGP 0 RSASHA256 AQPS"},
		{"RRSIG", "A 8 2 3600 20300101000000 1577836800 1 Example. AQPS", "A 8 2 3600 20300101000000 20200101000000 1 example. AQPS"},
		{"RRSIG", "TYPE65280 RSASHA256 2 3600 20300101000000 20200101000000 1 @ AQPS", "TYPE65280 8 2 3600 20300101000000 20200101000000 1 saltmarsh-ferries.example. AQPS"},
		{"NSEC", "A.example. A TYPE1 TYPE65534 CAA", "A.example. A CAA TYPE65534"},
		{"NSEC3", "1 1 0 - 0p9mhaveqvm6t7vbl5lop2u3t2rp3tom", "1 1 0 - 0P9MHAVEQVM6T7VBL5LOP2U3T2RP3TOM"},
		{"CSYNC", "66 3", "66 3"},
		{"CSYNC", "4294967295 65535 A TYPE65535", "4294967295 65535 A TYPE65535"},
		{"SOA", "ns Host 7 1h 15m 2w 5m", "ns.saltmarsh-ferries.example. host.saltmarsh-ferries.example. 7 3600 900 1209600 300"},
		{"SVCB", "0 Web", "0 Web.saltmarsh-ferries.example."},
		{"HTTPS", `1 . port=8443 alpn=h3,h2 key65534="a\"b" key667`, `1 . alpn="h3,h2" port="8443" key667 key65534="a\"b"`},
		{"HTTPS", `1 . alpn="f\\\\oo\\,bar,h2"`, `1 . alpn="f\\\\oo\\,bar,h2"`},
		{"HTTPS", `1 . alpn=f\\\092oo\092,bar,h2`, `1 . alpn="f\\\\oo\\,bar,h2"`},
		{"HTTPS", `16 foo.example.org. alpn=h2 mandatory=ipv4hint,alpn ipv4hint=192.0.2.1`, `16 foo.example.org. mandatory="alpn,ipv4hint" alpn="h2" ipv4hint="192.0.2.1"`},
		{"HTTPS", `1 . alpn=h2 no-default-alpn ipv6hint=2001:db8::1 ech=AAA= dohpath=/q{?dns} ohttp`,
			`1 . alpn="h2" no-default-alpn ech="AAA=" ipv6hint="2001:db8::1" dohpath="/q{?dns}" key8`},
		{"CAA", `0 issue ""`, `0 issue ""`},
		{"URI", `1 1 "ftp://a.example/x y"`, `1 1 "ftp://a.example/x y"`},
		{"TXT", `"" a\ b \255 "\"\\"`, `"" "a b" "\255" "\"\\"`},
		{"TLSA", "3 1 0 abcd", "3 1 0 abcd"},
		{"IPSECKEY", "10 0 2 . AQNR", "10 0 2 . AQNR"},
		{"IPSECKEY", "10 3 0 Gate", "10 3 0 Gate.saltmarsh-ferries.example."},
		{"AMTRELAY", "10 1 2 2001:db8::15", "10 1 2 2001:db8::15"},
		{"HIP", "2 200100107B1A74DF365639CC39F1D578 AwEA rvs.example.", "2 200100107b1a74df365639cc39f1d578 AwEA rvs.example."},
		{"NID", "10 14:4fff:ff20:ee64", "10 0014:4fff:ff20:ee64"},
		{"EUI48", "00-00-5E-00-53-2a", "00-00-5e-00-53-2a"},
		{"WKS", "192.0.2.1 TCP smtp 80", `\# 16 c0000201060000004000000000000080`},
		{"NSAP", "0x47.0005", `\# 3 470005`},
		{"A6", "64 ::1 prefix.example.", `\# 25 40000000000000000106707265666978076578616d706c6500`},
		{"ATMA", "+61.2.0000", `\# 8 0136313230303030`},
	} {
		wire, err := Parse(typed(t, c.typ), c.text, zone)
		require.NoError(t, err, "%s %s", c.typ, c.text)
		got, err := Print(typed(t, c.typ), wire)
		require.NoError(t, err, "%s %s", c.typ, c.text)
		assert.Equal(t, c.want, got, "%s %s", c.typ, c.text)
		again, err := Parse(typed(t, c.typ), got, dnsname.Root)
		require.NoError(t, err, "%s %s", c.typ, got)
		assert.Equal(t, string(wire), string(again), "%s %s", c.typ, got)
	}
}

// What is broken, and a word of the reason.
func TestBroken(t *testing.T) {
	long := make([]byte, 256)
	for i := range long {
		long[i] = 'x'
	}
	for _, c := range []struct{ typ, text, reason string }{
		{"TXT", `"\256"`, `more than \255`},
		{"TXT", `"a\25"`, "three digits"},
		{"TXT", `a\`, "backslash"},
		{"TXT", `a"b"`, "quote in its middle"},
		{"TXT", `"` + string(long) + `"`, "255 are the most"},
		{"TXT", "", "missing"},
		{"A", "192.0.2.1 192.0.2.2", "too much"},
		{"A", "192.0.2.01", "no IPv4 address"},
		{"A", `\# 3 c00002`, "too early"},
		{"A", `\# 5 c000020100`, "too much"},
		{"A", `\# 4 c00002`, "length is 4, but 3"},
		{"A", `\# 4 c000020`, "hexadecimal"},
		{"A", `\# x`, "no number"},
		{"MX", `\# 4 000a c00c`, "63 octets"},
		{"TYPE65280", "abcd", "no form of its own"},
		{"MX", "10", "missing"},
		{"SRV", "1 2 65536 a.", "more than 65535"},
		{"SRV", "1 2 +3 a.", "no number"},
		{"SRV", `1 2 "3" a.`, "quotes"},
		{"DS", "1 8 2 00112233445566778899aabbccddeeff00112233", "type 2 has 32"},
		{"SSHFP", "4 2 00", "type 2 has 32"},
		{"TLSA", "3 1 2 abcd", "type 2 has 64"},
		{"ZONEMD", "1 1 1 00112233445566778899aabb", "type 1 has 48"},
		{"ZONEMD", "1 1 9 0011223344556677889900", "missing"},
		{"DNSKEY", "257 3 8", "missing"},
		{"DNSKEY", "257 3 NOPE AQPS", "no number"},
		{"DNSKEY", "257 3 8 AQP", "no base64"},
		{"KEY", "49152 3 0 AQPS", "flags"},
		{"HINFO", "one", "missing"},
		{"HINFO", "one two three", "too much"},
		{"X25", "31x", "digits"},
		{"GPOS", "200 10 10", "from -180 to 180"},
		{"LOC", "91 N 6 E 2m", "out of range"},
		{"LOC", "90 1 N 6 E 2m", "more than 90"},
		{"LOC", "53 60 N 6 E 2m", "out of range"},
		{"LOC", "53 N 6 E", "missing"},
		{"LOC", "53 N 6 E 2m 1m 1m 1m 1m", "too much"},
		{"LOC", "53 6 E 2m", "neither N nor S"},
		{"APL", "1:192.0.2.0/33", "more than 32"},
		{"APL", "3:192.0.2.0/24", "address prefix"},
		{"APL", "1:2001:db8::/32", "address prefix"},
		{"NSEC", "a. NOPE", "no record type"},
		{"NSEC", "a. TYPE0", "no record type"},
		{"NSEC3", "1 0 0 ab", "missing"},
		{"NSEC3", "1 0 0 abc 0p9m", "no salt"},
		{"RRSIG", "A 8 2 3600 20301301000000 20200101000000 1 a. AQPS", "no time"},
		{"RRSIG", "A 8 1 3600 20300101000000 20200101000000 1 a.b. AQPS", "at or above"},
		{"DNSKEY", "257 3 PRIVATEDNS /wEC", "private algorithm"},
		{"DNSKEY", "257 3 PRIVATEOID CQEC", "private algorithm"},
		{"HTTPS", "1 . alpn", "1 to 255"},
		{"HTTPS", "1 . port=65536", "more than 65535"},
		{"HTTPS", "1 . port=1 port=2", "twice"},
		{"HTTPS", "1 . no-default-alpn", "needs alpn"},
		{"HTTPS", "1 . mandatory=port alpn=h2", "not among"},
		{"HTTPS", "1 . mandatory=mandatory", "not among"},
		{"HTTPS", "1 . key65535=x", "no parameter"},
		{"HTTPS", "1 . key07=x", "no parameter"},
		{"HTTPS", "1 . ALPN=h2", "no parameter"},
		{"HTTPS", "1 . ipv4hint=2001:db8::1", "no IPv4"},
		{"HTTPS", "1 . ipv4hint=", "no IPv4"},
		{"HTTPS", "1 . ech=", "no valid"},
		{"HTTPS", "1 . ohttp=x", "no valid"},
		{"HTTPS", `1 . alpn="a\\b"`, "backslash"},
		{"CAA", `0 is-sue "ca.example"`, "neither letter nor digit"},
		{"CAA", `256 issue "ca.example"`, "more than 255"},
		{"URI", `1 1 ""`, "empty"},
		{"IPSECKEY", "10 1 2 gate.example. AQNR", "no IPv4"},
		{"IPSECKEY", "10 0 2 .", "needs a key"},
		{"AMTRELAY", "10 2 1 192.0.2.1", "more than 1"},
		{"EUI48", "00-00-5e-00-53", "6 octets"},
		{"EUI48", "0000-5e-00-53-2a", "6 octets"},
		{"NID", "10 14:4fff:ff20", "four groups"},
		{"L32", "10 2001:db8::", "locator"},
		{"SOA", "a. b. 1 2 3 4", "minimum: it is missing"},
		{"SOA", "a. b. 1h 2 3 4 5", "serial"},
		{"NAPTR", `100 10 "u" "E2U+sip" ""`, "missing"},
		{"MX", "10 a..b.", "empty label"},
		{"A", "192.0.2.1 ; x", "outside quotes"},
	} {
		_, err := Parse(typed(t, c.typ), c.text, zone)
		require.Error(t, err, "%s %s", c.typ, c.text)
		assert.Contains(t, err.Error(), c.reason, "%s %s", c.typ, c.text)
	}
}

// What octets say is printed and read back as the same octets, or refused.
func FuzzPrint(f *testing.F) {
	for t := range types {
		f.Add(t, []byte("\x00\x01\x02\x03\x04"))
	}
	f.Add(uint16(65), []byte("\x00\x01\x00\x00\x01\x00\x03\x02h2"))
	f.Add(uint16(42), []byte("\x00\x01\x18\x03\xc0\x00\x02"))
	f.Fuzz(func(t *testing.T, typ uint16, wire []byte) {
		text, err := Print(typ, wire)
		if err != nil {
			return
		}
		back, err := Parse(typ, text, dnsname.Root)
		if err != nil {
			t.Fatalf("%s: %q is not read back: %v", TypeName(typ), text, err)
		}
		if again, err := Print(typ, back); err != nil || again != text {
			t.Fatalf("%s: %q became %q, %v", TypeName(typ), text, again, err)
		}
	})
}
