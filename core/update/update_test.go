package update

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
)

var (
	zone  = dnsname.MustParse("pier.example")
	cam   = dnsname.MustParse("cam.pier.example")
	gauge = dnsname.MustParse("gauge.pier.example")
)

// seen is a zone with two hosts of the sender and another name.
func seen() View {
	rows := map[dnsname.Name][]record.Record{
		cam:                                   {{Name: cam, Type: record.A, TTL: 60, Data: "198.51.100.7"}, {Name: cam, Type: record.TXT, TTL: 60, Data: `"camera"`}},
		dnsname.MustParse("www.pier.example"): {{Name: dnsname.MustParse("www.pier.example"), Type: record.A, TTL: 60, Data: "192.0.2.1"}},
	}
	return View{Zones: []dnsname.Name{zone}, At: func(name dnsname.Name) []record.Record { return rows[name] }, Hosts: []Host{
		{Name: cam, Follows: dynaddr.Families{V4: true, V6: true}, Now: dynaddr.Addresses{V4: netip.MustParseAddr("198.51.100.7")}},
		{Name: gauge, Follows: dynaddr.Families{V4: true}},
	}}
}

// message reads an update from lines of records: "prereq" or "update", then a record whose class and TTL are written out.
func message(t testing.TB, text string) *dns.Msg {
	t.Helper()
	m := new(dns.Msg)
	m.SetUpdate("pier.example.")
	for line := range strings.SplitSeq(text, "\n") {
		what, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		if what == "" {
			continue
		}
		if what == "zone" {
			m.Question[0].Name = rest
			continue
		}
		fields := strings.Fields(rest)
		class := dns.StringToClass[fields[2]]
		var rr dns.RR
		var err error
		if len(fields) == 4 { // without data
			rr = &dns.ANY{Hdr: dns.RR_Header{Name: fields[0], Rrtype: dns.StringToType[fields[3]]}}
		} else {
			rr, err = dns.NewRR(fields[0] + " 0 IN " + strings.Join(fields[3:], " "))
			require.NoError(t, err, line)
		}
		rr.Header().Class = class
		if fields[1] != "0" {
			rr.Header().Ttl = 60
		}
		if what == "prereq" {
			m.Answer = append(m.Answer, rr)
		} else {
			m.Ns = append(m.Ns, rr)
		}
	}
	wire, err := m.Pack()
	require.NoError(t, err)
	back := new(dns.Msg)
	require.NoError(t, back.Unpack(wire))
	return back
}

func TestUpdates(t *testing.T) {
	for text, want := range map[string]string{
		// what clients send
		"update cam.pier.example. 60 IN A 198.51.100.8":                                                "NOERROR cam v4=198.51.100.8",
		"update cam.pier.example. 0 ANY A\nupdate cam.pier.example. 60 IN A 198.51.100.8":              "NOERROR cam v4=198.51.100.8",
		"update cam.pier.example. 0 NONE A 198.51.100.7\nupdate cam.pier.example. 60 IN AAAA 2a00::1":  "NOERROR cam v4=none v6=2a00::1",
		"update cam.pier.example. 0 ANY ANY":                                                           "NOERROR cam v4=none v6=none",
		"update cam.pier.example. 0 ANY ANY\nupdate cam.pier.example. 60 IN A 198.51.100.8":            "NOERROR cam v4=198.51.100.8 v6=none",
		"update cam.pier.example. 60 IN A 198.51.100.8\nupdate cam.pier.example. 60 IN DHCID AAIBY2/A": "NOERROR cam v4=198.51.100.8",
		"update cam.pier.example. 0 NONE A 198.51.100.99":                                              "NOERROR",
		"update gauge.pier.example. 0 ANY AAAA":                                                        "NOERROR",
		"update cam.pier.example. 60 IN A 198.51.100.8\nupdate gauge.pier.example. 60 IN A 192.0.2.9":  "NOERROR cam v4=198.51.100.8 gauge v4=192.0.2.9",
		"update CAM.Pier.EXAMPLE. 60 IN A 198.51.100.8":                                                "NOERROR cam v4=198.51.100.8",
		"": "NOERROR",
		// prerequisites, against what is accepted
		"prereq cam.pier.example. 0 ANY ANY\nupdate cam.pier.example. 60 IN A 198.51.100.8":       "NOERROR cam v4=198.51.100.8",
		"prereq none.pier.example. 0 ANY ANY":                                                     "NXDOMAIN",
		"prereq cam.pier.example. 0 ANY A":                                                        "NOERROR",
		"prereq cam.pier.example. 0 ANY AAAA":                                                     "NXRRSET",
		"prereq none.pier.example. 0 NONE ANY":                                                    "NOERROR",
		"prereq cam.pier.example. 0 NONE ANY":                                                     "YXDOMAIN",
		"prereq cam.pier.example. 0 NONE A":                                                       "YXRRSET",
		"prereq cam.pier.example. 0 NONE AAAA":                                                    "NOERROR",
		"prereq cam.pier.example. 0 IN A 198.51.100.7":                                            "NOERROR",
		"prereq cam.pier.example. 0 IN A 198.51.100.8":                                            "NXRRSET",
		"prereq cam.pier.example. 0 IN A 198.51.100.7\nprereq cam.pier.example. 0 IN A 192.0.2.1": "NXRRSET",
		"prereq cam.pier.example. 60 IN A 198.51.100.7":                                           "FORMERR",
		"prereq cam.other.example. 0 ANY A":                                                       "NOTZONE",
		"prereq cam.pier.example. 0 CH A 198.51.100.7":                                            "FORMERR",
		// what is not the sender's
		"update www.pier.example. 60 IN A 198.51.100.8":                                                "REFUSED",
		"update cam.pier.example. 60 IN A 198.51.100.8\nupdate www.pier.example. 0 ANY ANY":            "REFUSED",
		"update cam.pier.example. 60 IN TXT boo":                                                       "REFUSED",
		"update cam.pier.example. 0 ANY TXT":                                                           "REFUSED",
		"update cam.pier.example. 60 IN CNAME www.pier.example.":                                       "REFUSED",
		"update gauge.pier.example. 60 IN AAAA 2a00::1":                                                "REFUSED",
		"update cam.pier.example. 60 IN A 198.51.100.8\nupdate cam.pier.example. 60 IN A 198.51.100.9": "REFUSED",
		"update cam.other.example. 60 IN A 198.51.100.8":                                               "NOTZONE",
		"zone other.example.\nupdate cam.other.example. 60 IN A 198.51.100.8":                          "NOTAUTH",
		"zone example.\nupdate cam.pier.example. 60 IN A 198.51.100.8":                                 "NOTAUTH",
		// forms
		"update cam.pier.example. 60 ANY A":               "FORMERR",
		"update cam.pier.example. 0 IN ANY":               "FORMERR",
		"update cam.pier.example. 60 NONE A 198.51.100.7": "FORMERR",
		"update cam.pier.example. 0 ANY AXFR":             "FORMERR",
		"update cam.pier.example. 60 CH A 198.51.100.7":   "FORMERR",
	} {
		d := Read(message(t, text), seen())
		got := dns.RcodeToString[d.Rcode]
		for _, c := range d.Changes {
			label, _, _ := strings.Cut(c.Host.String(), ".")
			got += " " + label
			if c.V4.IsValid() {
				got += " v4=" + c.V4.String()
			} else if c.Gone.V4 {
				got += " v4=none"
			}
			if c.V6.IsValid() {
				got += " v6=" + c.V6.String()
			} else if c.Gone.V6 {
				got += " v6=none"
			}
		}
		assert.Equal(t, want, got, "%s (%s)", text, d.Reason)
		if d.Rcode != dns.RcodeSuccess {
			assert.Empty(t, d.Changes, text)
			assert.NotEmpty(t, d.Reason, text)
		}
	}
}

func TestLease(t *testing.T) {
	m := message(t, "update cam.pier.example. 60 IN A 198.51.100.8")
	assert.Zero(t, Read(m, seen()).Lease)
	opt := new(dns.OPT)
	opt.Hdr.Name, opt.Hdr.Rrtype = ".", dns.TypeOPT
	opt.Option = append(opt.Option, &dns.EDNS0_UL{Code: dns.EDNS0UL, Lease: 3600})
	m.Extra = append(m.Extra, opt)
	wire, err := m.Pack()
	require.NoError(t, err)
	back := new(dns.Msg)
	require.NoError(t, back.Unpack(wire))
	assert.EqualValues(t, 3600, Read(back, seen()).Lease)
}

// Whatever octets come as an update, only hosts of the sender change, each within the families that it follows.
func FuzzUpdate(f *testing.F) {
	for _, text := range []string{"update cam.pier.example. 60 IN A 198.51.100.8", "prereq cam.pier.example. 0 ANY A\nupdate cam.pier.example. 0 ANY ANY", "update gauge.pier.example. 0 NONE A 192.0.2.1"} {
		wire, err := message(f, text).Pack()
		require.NoError(f, err)
		f.Add(wire)
	}
	v := seen()
	f.Fuzz(func(t *testing.T, wire []byte) {
		m := new(dns.Msg)
		if m.Unpack(wire) != nil {
			return
		}
		d := Read(m, v)
		if d.Rcode != dns.RcodeSuccess {
			assert.Empty(t, d.Changes)
		}
		for _, c := range d.Changes {
			assert.Contains(t, []dnsname.Name{cam, gauge}, c.Host)
			if c.Host == gauge {
				assert.False(t, c.V6.IsValid() || c.Gone.V6)
			}
		}
	})
}
