package handover

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
)

func TestHanging(t *testing.T) {
	domain := dnsname.MustParse("ferry.example")
	stays := dnsname.MustParse("a.stays.test")
	old, next := []dnsname.Name{stays, dnsname.MustParse("ns1.old.test")}, []dnsname.Name{stays, dnsname.MustParse("ns1.new.test")}
	set := func(label string, typ record.Type, data ...record.Data) record.Set {
		name, err := dnsname.ParseRelative(label, domain)
		assert.NoError(t, err)
		return record.NewSet(name, typ, 60, data...)
	}
	sweep := func(before, after uint32) evidence.Sweep {
		return evidence.Sweep{Servers: []evidence.ServerAnswer{
			{Server: evidence.Server{Name: stays}, Answer: evidence.Positive, SOA: evidence.SOA{Serial: before}},
			{Server: evidence.Server{Name: old[1]}, Answer: evidence.Positive, SOA: evidence.SOA{Serial: before}},
			{Server: evidence.Server{Name: next[1]}, Answer: evidence.Positive, SOA: evidence.SOA{Serial: after}}}}
	}
	for _, tt := range []struct {
		name string
		a    Around
		want []string
		seen []string // of the first
	}{
		{"nothing", Around{Desired: record.ContentsOf(set("@", record.MX, "10 mx.post.test."), set("www", record.A, "192.0.2.1"))}, nil, nil},
		{"mail and web of the old provider", Around{Desired: record.ContentsOf(set("@", record.MX, "10 mx1.old.test."), set("www", record.CNAME, "web.old.test."), set("@", record.TXT, `"v=spf1 include:old.test. -all"`))},
			[]string{HangsServices}, []string{"@ MX mx1.old.test", "www CNAME web.old.test"}},
		{"an alias there", Around{Desired: record.ContentsOf(set("@", record.ALIAS, "web.old.test."))}, []string{HangsServices}, []string{"@ ALIAS web.old.test"}},
		{"relayed", Around{Relays: []record.Key{{Name: domain, Type: record.A}}}, []string{HangsRelays}, []string{"ferry.example A"}},
		{"others", Around{Others: []dnsname.Name{dnsname.MustParse("pier.example")}}, []string{HangsOthers}, []string{"pier.example"}},
		{"serial", Around{Sweep: sweep(2026010100, 3)}, []string{HangsSerial}, nil},
		{"serial ahead, past the wrap", Around{Sweep: sweep(4294967290, 3)}, nil, nil},
		{"TLSA of a signed domain", Around{DS: true, Sign: true, Desired: record.ContentsOf(set("_25._tcp.mx", 52, "3 1 1 abcd"))}, []string{HangsTLSA}, []string{"_25._tcp.mx"}},
		{"TLSA of an unsigned domain", Around{Desired: record.ContentsOf(set("_25._tcp.mx", 52, "3 1 1 abcd"))}, nil, nil},
		{"challenges", Around{Desired: record.ContentsOf(set("_acme-challenge", record.TXT, `"x"`))}, []string{HangsChallenge}, []string{"_acme-challenge"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			tt.a.Domain, tt.a.Old, tt.a.New = domain, old, next
			got := Hanging(tt.a)
			var codes []string
			for _, f := range got {
				codes = append(codes, f.Code)
				assert.NotEqual(t, finding.Error, f.Severity, "none is a gate")
				assert.NotEmpty(t, f.Remedy)
			}
			assert.Equal(t, tt.want, codes)
			if len(tt.seen) > 0 {
				assert.Equal(t, tt.seen, got[0].Seen)
			}
		})
	}
}
