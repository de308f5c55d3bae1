package zonefile

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
)

// piece is one field of generated data and its kind, which says how it can be broken.
type piece struct{ kind, text string }

// kinds of pieces: n8, n16, n32, name, str, long (a string without length), a4, a6, hex, b64, hex1, b641 (one word), types, word.

// shape makes the pieces of one type's data.
type shape struct {
	draw func(d *draw) []piece
	open bool // more of the last piece may follow
	rest bool // ends in octets to the end of the data: one more, or one less, is as good
}

type draw struct{ *rand.Rand }

func (d *draw) pick(list ...string) string { return list[d.IntN(len(list))] }

func (d *draw) octets(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(d.IntN(256))
	}
	return b
}

func (d *draw) n(bits int) piece {
	most := uint64(1)<<bits - 1
	n := d.Uint64N(most + 1)
	switch d.IntN(6) {
	case 0:
		n = 0
	case 1:
		n = most
	case 2:
		n = d.Uint64N(256)
	}
	return piece{fmt.Sprintf("n%d", bits), fmt.Sprint(n)}
}

func (d *draw) name() piece {
	return piece{"name", d.pick("@", ".", "a", "a.b", "Web.Example.", `odd\.dot.example.`, `o\100d.example.`, "_25._tcp", "*.w", "xn--bcher-kva.example.", "a-b.c--d.test.",
		strings.Repeat("l", 63)+".", strings.Repeat("abc.", 40))}
}

func (d *draw) str() piece {
	return piece{"str", d.pick("word", `"two words"`, `""`, `"a;b(c)"`, `"\"q\\"`, `"\000\255\065"`, `esc\"aped`, `\065bc`, `"`+strings.Repeat("x", 255)+`"`)}
}

func (d *draw) long(least int) piece {
	text := d.pick(`"mailto:desk@harbour.example"`, `"a b"`, `"\"\\\200"`, `"`+strings.Repeat("y", 255)+`"`)
	if least == 0 && d.IntN(5) == 0 {
		text = `""`
	}
	return piece{"long", text}
}

func (d *draw) a4() piece {
	return piece{"a4", fmt.Sprintf("%d.%d.%d.%d", d.IntN(256), d.IntN(256), d.IntN(256), d.IntN(256))}
}

func (d *draw) a6() piece {
	if d.IntN(3) == 0 {
		return piece{"a6", d.pick("::", "::1", "2001:DB8::A", "2001:db8:0:0:1::", "::ffff:192.0.2.1", "1:2:3:4:5:6:7:8", "fe80::1")}
	}
	addr, _ := netip.AddrFromSlice(d.octets(16))
	return piece{"a6", addr.StringExpanded()}
}

func (d *draw) hex(n int) piece {
	text := hex.EncodeToString(d.octets(n))
	if d.IntN(2) == 0 {
		text = strings.ToUpper(text)
	}
	if n > 2 && d.IntN(3) == 0 {
		text = text[:2*(n/2)] + " " + text[2*(n/2):]
	}
	return piece{"hex", text}
}

func (d *draw) b64(n int) piece {
	text := base64.StdEncoding.EncodeToString(d.octets(n))
	if len(text) > 8 && d.IntN(3) == 0 {
		text = text[:4] + " " + text[4:]
	}
	return piece{"b64", text}
}

func (d *draw) word(list ...string) piece { return piece{"word", d.pick(list...)} }

// bits is a list of types, least of them.
func (d *draw) bits(least int) (list []piece) {
	for range least + d.IntN(4) {
		list = append(list, piece{"types", d.pick("A", "NS", "mx", "TYPE1", "TYPE65280", "AAAA", "RRSIG", "NSEC", "TXT", "TYPE256", "CAA", "TYPE1000")})
	}
	return list
}

func (d *draw) algorithm() piece {
	return d.word("8", "13", "RSASHA256", "ED25519", "ECDSAP256SHA256", "rsasha512", "5", "ED448")
}

func (d *draw) moment() piece {
	return d.word("20300101000000", "20200229235959", "1893456000", "0", "4294967295", "19700101000001")
}

func (d *draw) digest(kind string, size int) []piece { return []piece{{"n8", kind}, d.hex(size)} }

func fixed(kinds ...func(d *draw) piece) shape {
	return shape{draw: func(d *draw) (list []piece) {
		for _, k := range kinds {
			list = append(list, k(d))
		}
		return list
	}}
}

func n8(d *draw) piece  { return d.n(8) }
func n16(d *draw) piece { return d.n(16) }

func rest(make func(d *draw) []piece) shape { return shape{draw: make, rest: true} }
func open(make func(d *draw) []piece) shape { return shape{draw: make, open: true} }

// shapes are the types whose data are drawn.
var shapes = func() map[string]shape {
	key := rest(func(d *draw) []piece {
		return []piece{d.n(16), d.word("3", "255", "0"), d.algorithm(), d.b64(1 + d.IntN(40))}
	})
	ds := rest(func(d *draw) []piece {
		sizes := map[string]int{"1": 20, "2": 32, "4": 48}
		kind := d.pick("1", "2", "4")
		return append([]piece{d.n(16), d.algorithm()}, d.digest(kind, sizes[kind])...)
	})
	tlsa := rest(func(d *draw) []piece {
		sizes := map[string]int{"0": 1 + d.IntN(50), "1": 32, "2": 64}
		kind := d.pick("0", "1", "2")
		return append([]piece{d.n(8), d.n(8)}, d.digest(kind, sizes[kind])...)
	})
	sig := func(moment func(d *draw) piece) shape {
		return rest(func(d *draw) []piece {
			return []piece{d.word("A", "TYPE65280", "NS", "TYPE1"), d.algorithm(), d.word("45", "255"), d.n(32), moment(d), moment(d), d.n(16), d.name(), d.b64(1 + d.IntN(64))}
		})
	}
	texts := open(func(d *draw) (list []piece) {
		for range 1 + d.IntN(3) {
			list = append(list, d.str())
		}
		return list
	})
	host := fixed((*draw).name)
	preferred := fixed(n16, (*draw).name)
	service := open(func(d *draw) []piece {
		list := []piece{d.n(16), d.name()}
		if list[0].text == "0" { // an alias
			return list
		}
		list = append(list, d.word(`alpn="h2,h3"`, "alpn=h2", `alpn="f\\\\oo\\,bar,h2"`))
		for _, more := range []string{d.pick("port=443", `port="8443"`), d.pick("ipv4hint=192.0.2.1", `ipv4hint="192.0.2.1,192.0.2.2"`), "no-default-alpn", d.pick("ipv6hint=2001:db8::1", "key6=\\032\\001\\013\\184\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\001"),
			"key65280=hello", `key700="a b\"c"`, "key65534", "mandatory=alpn", "ech=AEP+DQA="} {
			if d.IntN(3) == 0 {
				list = append(list, piece{"word", more})
			}
		}
		return list
	})
	return map[string]shape{
		"A": fixed((*draw).a4), "AAAA": fixed((*draw).a6), "NS": host, "CNAME": host, "PTR": host, "DNAME": host, "MB": host, "MG": host, "MR": host, "NSAP-PTR": host,
		"MX": preferred, "KX": preferred, "RT": preferred, "AFSDB": preferred, "LP": preferred, "PX": fixed(n16, (*draw).name, (*draw).name),
		"SRV": fixed(n16, n16, n16, (*draw).name), "MINFO": fixed((*draw).name, (*draw).name), "RP": fixed((*draw).name, (*draw).name), "TALINK": fixed((*draw).name, (*draw).name),
		"TXT": texts, "SPF": texts, "AVC": texts, "NINFO": texts, "HINFO": fixed((*draw).str, (*draw).str),
		"X25":   fixed(func(d *draw) piece { return d.word("311061700956", `"31106"`) }),
		"ISDN":  open(func(d *draw) []piece { return []piece{d.word("150862028003217", `"150862028003217" "004"`)} }),
		"NAPTR": fixed(n16, n16, func(d *draw) piece { return d.word("u", `"s"`, `""`) }, (*draw).str, func(d *draw) piece { return d.word(`"!^.*$!sip:a@b.example!"`, `!a!b!`, `""`) }, (*draw).name),
		"CAA":   fixed(n8, func(d *draw) piece { return d.word("issue", "issuewild", "iodef", "Tag9") }, func(d *draw) piece { return d.long(0) }),
		"URI":   fixed(n16, n16, func(d *draw) piece { return d.long(1) }),
		"GPOS":  fixed(func(d *draw) piece { return d.word("-32.6882", "180", "0.0") }, func(d *draw) piece { return d.word("16.8652", `"-90.0"`) }, func(d *draw) piece { return d.word("10.0", "-5") }),
		"LOC": open(func(d *draw) []piece {
			list := []piece{d.word("53", "53 12", "53 12 30", "90 0 0.000", "0 59 59.999"), d.word("N", "S"), d.word("6", "6 5", "180", "179 59 59.999"), d.word("E", "W"),
				d.word("2m", "-100000.00m", "0", "42849672.95m", "2.5")}
			return append(list, []piece{d.word("1m", "90000000.00m", "0.01m"), d.word("10000m", "100"), d.word("10m", "0m")}[:d.IntN(4)]...)
		}),
		"APL": open(func(d *draw) (list []piece) {
			for range d.IntN(4) {
				list = append(list, d.word("1:192.0.2.0/24", "!1:192.0.2.128/25", "2:2001:db8::/32", "!2:::/0", "1:0.0.0.0/0", "1:255.255.255.255/32", "2:ff00::/8"))
			}
			return list
		}),
		"DS": ds, "CDS": ds, "DLV": ds, "TA": ds, "DNSKEY": key, "CDNSKEY": key, "RKEY": rest(func(d *draw) []piece { return []piece{d.word("0"), d.n(8), d.algorithm(), d.b64(8)} }),
		"KEY": rest(func(d *draw) []piece {
			return []piece{d.word("256", "0", "512"), d.word("3", "DNSSEC", "TLS", "2"), d.algorithm(), d.b64(8)}
		}),
		"RRSIG": sig((*draw).moment), "SIG": sig(func(d *draw) piece { return d.word("20300101000000", "20200229235959") }),
		"NSEC": open(func(d *draw) []piece { return append([]piece{d.name()}, d.bits(1)...) }),
		"NSEC3": open(func(d *draw) []piece {
			return append([]piece{d.word("1", "2"), d.n(8), d.n(16), d.word("-", "aabb", "FF00"), d.word("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom", "2T7B4G4VSA5SMI47K61MV5BV1A22BOJR")}, d.bits(0)...)
		}),
		"NSEC3PARAM": fixed(n8, n8, n16, func(d *draw) piece { return d.word("-", "aabb", "FF00") }),
		"CSYNC":      open(func(d *draw) []piece { return append([]piece{d.n(32), d.n(16)}, d.bits(0)...) }),
		"ZONEMD": rest(func(d *draw) []piece {
			sizes := map[string]int{"1": 48, "2": 64, "240": 12}
			kind := d.pick("1", "2", "240")
			return append([]piece{d.n(32), d.n(8)}, d.digest(kind, sizes[kind])...)
		}),
		"SSHFP": rest(func(d *draw) []piece {
			sizes := map[string]int{"1": 20, "2": 32, "77": 9}
			kind := d.pick("1", "2", "77")
			return append([]piece{d.n(8)}, d.digest(kind, sizes[kind])...)
		}),
		"TLSA": tlsa, "SMIMEA": tlsa,
		"CERT": rest(func(d *draw) []piece {
			return []piece{d.word("PKIX", "1", "PGP", "65280", "OID"), d.n(16), d.algorithm(), d.b64(9)}
		}),
		"OPENPGPKEY": rest(func(d *draw) []piece { return []piece{d.b64(1 + d.IntN(60))} }),
		"DHCID":      rest(func(d *draw) []piece { return []piece{d.b64(35)} }),
		"IPSECKEY": rest(func(d *draw) []piece {
			gateway := []piece{d.word("."), d.a4(), d.a6(), d.name()}
			kind := d.IntN(4)
			return []piece{d.n(8), {"word", fmt.Sprint(kind)}, d.word("1", "2"), gateway[kind], d.b64(6)}
		}),
		"AMTRELAY": {draw: func(d *draw) []piece {
			relay := []piece{d.word("."), d.a4(), d.a6(), d.name()}
			kind := d.IntN(4)
			return []piece{d.n(8), d.word("0", "1"), {"word", fmt.Sprint(kind)}, relay[kind]}
		}},
		"HIP": open(func(d *draw) []piece {
			list := []piece{d.word("1", "2"), d.word("200100107B1A74DF365639CC39F1D578", "00"), d.word("AwEAAQ==", "AQPS")}
			for range d.IntN(3) {
				list = append(list, d.name())
			}
			return list
		}),
		"NID": fixed(n16, func(d *draw) piece { return d.word("0014:4fff:ff20:ee64", "FFFF:0:1:22") }), "L64": fixed(n16, func(d *draw) piece { return d.word("2001:0DB8:1140:1000") }),
		"L32": fixed(n16, (*draw).a4), "EUI48": fixed(func(d *draw) piece { return d.word("00-00-5e-00-53-2a", "FF-FF-FF-FF-FF-FF") }),
		"EUI64": fixed(func(d *draw) piece { return d.word("00-00-5e-ef-10-00-00-2a") }),
		"EID":   rest(func(d *draw) []piece { return []piece{d.hex(4)} }), "NIMLOC": rest(func(d *draw) []piece { return []piece{d.hex(4)} }),
		"SVCB": service, "HTTPS": service,
		"WKS":  open(func(d *draw) []piece { return []piece{d.a4(), d.word("TCP", "UDP", "6"), d.word("domain", "25", "53")} }),
		"NSAP": fixed(func(d *draw) piece { return d.word("0x47.0005.80.005a00.0000.0001.e133.ffffff000161.00", "0x4700") }),
		"A6": {draw: func(d *draw) []piece {
			if d.IntN(3) == 0 {
				return []piece{{"word", "0"}, d.a6()}
			}
			return []piece{{"word", "64"}, d.word("::1", "::ffff:0:1"), d.word("prefix.example.")}
		}},
		"NXT":  open(func(d *draw) []piece { return []piece{d.name(), d.word("A", "A NS", "MX SOA NXT")} }),
		"ATMA": fixed(func(d *draw) piece { return d.word("+61200000000", "47000580005a0000000001e133ffffff00016100") }),
	}
}()

// broken are ways to spoil a piece of a kind, each against an RFC.
var broken = map[string][]string{
	"n8":    {"256", "-1", "1x", `"x`},
	"n16":   {"65536", "-1", "0x10"},
	"n32":   {"4294967296", "-1", "1.5"},
	"name":  {"a..b.", strings.Repeat("l", 64) + ".", `a\256.`, strings.Repeat("abcdefg.", 33)},
	"str":   {`"\256"`, `"a\25"`, `"` + strings.Repeat("x", 256) + `"`},
	"long":  {`"\300"`, `"a\1"`, `"open`},
	"a4":    {"192.0.2.256", "192.0.2", "2001:db8::1", "192.0.2.1.1"},
	"a6":    {"2001:db8::1::2", "192.0.2.1", "2001:db8:1:2:3:4:5:6:7", "12345::"},
	"hex":   {"abc", "zz", "ab-cd"},
	"b64":   {"A", "AQP", "A=Q=", "AQPS=", "AQ!S"},
	"types": {"NOPE", "TYPE65536", "TYPE"},
}
