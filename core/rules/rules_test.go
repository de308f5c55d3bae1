package rules

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

var origin = dnsname.MustParse("saltmarsh-ferries.example")

func believed(t *testing.T) []netip.Prefix {
	t.Helper()
	return []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("2001:db8::/32")}
}

// judge reads lines of a zone file and gives what is found.
func judge(t *testing.T, text string) []Found {
	t.Helper()
	return judgeOnly(t, text, record.Key{})
}

func judgeOnly(t *testing.T, text string, only record.Key) []Found {
	t.Helper()
	z, faults := zonefile.Read(text, zonefile.Options{Origin: origin, TTL: 300})
	require.Empty(t, faults, text)
	return Check(Zone{Name: origin, Contents: z.Contents(), Written: z.Records, Believe: believed(t), Only: only})
}

func codes(found []Found) (list []string) {
	for _, f := range found {
		list = append(list, f.Code)
	}
	return list
}

const (
	sha256 = "00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff"
)

// rows has for each rule a zone in which it speaks, and one close to it in which it must not. "|" parts lines.
var rows = map[string][2]string{
	"outside-zone":                 {"www.other.example. A 192.0.2.1", "www A 192.0.2.1"},
	"zone-name-repeated":           {"www.saltmarsh-ferries.example A 192.0.2.1", "www.saltmarsh-ferries A 192.0.2.1"},
	"web-address-as-name":          {`https\:\/\/www A 192.0.2.1`, "https-www A 192.0.2.1|0/25 NS a.x.test.|0/25 NS b.x.test."},
	"strange-character-in-name":    {`pier\032cam A 192.0.2.1`, "pier-cam A 192.0.2.1"},
	"underscore-in-host":           {"@ MX 10 mail_1.post.example.", "_x._tcp SRV 1 1 1 mail-1.post.example."},
	"www-missing":                  {"@ A 192.0.2.1", "@ A 192.0.2.1|* CNAME @"},
	"apex-missing":                 {"www A 192.0.2.1", "www A 192.0.2.1|@ AAAA 2001:db8::1"},
	"cname-beside-data":            {"www CNAME @|www A 192.0.2.1", "www CNAME @|www2 A 192.0.2.1"},
	"several-cname":                {"www CNAME a.other.example.|www CNAME b.other.example.", "www CNAME a.other.example.|www CNAME a.other.example."},
	"cname-at-apex":                {"@ CNAME x.other.example.", "a CNAME x.other.example."},
	"cname-loop":                   {"a CNAME b|b CNAME c|c CNAME a", "a CNAME b|b CNAME c|c A 192.0.2.1"},
	"long-cname-chain":             {"a CNAME b|b CNAME c|c CNAME d|d CNAME e|e A 192.0.2.1", "a CNAME b|b CNAME c|c CNAME d|d A 192.0.2.1"},
	"alias-beside-address":         {"@ ALIAS x.other.example.|@ A 192.0.2.1", "@ ALIAS x.other.example.|@ MX 0 ."},
	"several-alias":                {"a ALIAS x.other.example.|a ALIAS y.other.example.", "a ALIAS x.other.example."},
	"alias-loop":                   {"a ALIAS b|b CNAME a", "a ALIAS b|b CNAME c|c CNAME b"},
	"mixed-scripts":                {"fаhrplan A 192.0.2.1", "fährplan A 192.0.2.1|ферри A 192.0.2.1"},
	"soa-below-apex":               {"a SOA n.x.test. h.x.test. 1 2 3 4 5", "@ SOA n.x.test. h.x.test. 1 2 3 4 5"},
	"several-dname":                {"a DNAME b.example.|a DNAME c.example.", "a DNAME b.example."},
	"below-dname":                  {"a DNAME b.example.|x.a A 192.0.2.1", "a DNAME b.example.|a A 192.0.2.1|xa A 192.0.2.1"},
	"below-delegation":             {"a NS n.x.test.|b.a TXT x", "a NS n.a|n.a A 192.0.2.1|ba TXT x"},
	"beside-delegation":            {"a NS n.x.test.|a TXT x", "a NS n.x.test.|a DS 1 8 2 " + sha256},
	"glue-missing":                 {"a NS n.a", "a NS n.a|n.a AAAA 2001:db8::1"},
	"single-nameserver":            {"a NS n.x.test.", "a NS n.x.test.|a NS m.x.test.|@ NS n.x.test."},
	"ds-without-delegation":        {"a DS 1 8 2 " + sha256, "a DS 1 8 2 " + sha256 + "|a NS n.x.test."},
	"delegation-at-wildcard":       {"* NS n.x.test.", "a NS n.x.test."},
	"wildcard-hidden":              {"* A 192.0.2.1|a TXT x", "* A 192.0.2.1|a AAAA 2001:db8::1|_a TXT x|b CNAME @|c.d TXT x"},
	"address-as-target":            {"@ MX 10 192.0.2.1", "@ MX 10 host-192-0-2-1.x.test."},
	"web-address-as-target":        {`_a._tcp SRV 1 1 1 https\:\/\/x.test.`, "a CNAME x.test.|1 CNAME 1.0/25.2.0.192.in-addr.arpa."},
	"zone-name-repeated-in-target": {"a CNAME www.saltmarsh-ferries.example", "a CNAME www.saltmarsh-ferries.example."},
	"final-dot-missing":            {"@ MX 10 mx1.post.example|* A 192.0.2.1", "@ MX 10 mx1.post.example.|a CNAME mx1.post"},
	"target-missing":               {"a CNAME nowhere", "a CNAME b|c.b A 192.0.2.1|d CNAME x.e|*.e A 192.0.2.1"},
	"target-without-address":       {"@ MX 10 mail|mail TXT x", "@ MX 10 mail|mail AAAA 2001:db8::1|@ MX 20 x.w|*.w A 192.0.2.1|@ NS n.x.test."},
	"ns-at-cname":                  {"a NS n|n CNAME x.test.", "a NS n|n A 192.0.2.1"},
	"mx-at-cname":                  {"@ MX 10 m|m CNAME x.test.", "@ MX 10 m|m A 192.0.2.1"},
	"srv-at-cname":                 {"_a._tcp SRV 1 1 1 m|m CNAME x.test.", "_a._tcp SRV 1 1 1 m|m A 192.0.2.1"},
	"points-at-itself":             {"_a._tcp SRV 1 1 1 _a._tcp", "_a._tcp SRV 1 1 1 a"},
	"several-spf":                  {`@ TXT "v=spf1 -all"|@ TXT "v=spf1 mx -all"`, `@ TXT "v=spf1 -all"|@ TXT "v=spf10"|a TXT "v=spf1 -all"`},
	"spf-too-many-lookups": {`@ TXT "v=spf1 a mx a:b.x mx:b.x include:c.x include:d.x include:e.x include:f.x exists:g.x ptr ?include:h.x -all"`,
		`@ TXT "v=spf1 a mx a:b.x mx:b.x include:c.x include:d.x include:e.x include:f.x exists:g.x ptr ip4:192.0.2.1 ip4:192.0.2.2 -all"`},
	"spf-syntax":            {`@ TXT "v=spf1 ipv4:192.0.2.1 -all"`, `@ TXT "v=spf1 a/24 mx:x.y//64 ~include:_spf.x.y ip6:2001:db8::/32 exp=e.x.y redirect=z.y"`},
	"spf-allows-all":        {`@ TXT "v=spf1 mx +all"`, `@ TXT "v=spf1 mx ~all"`},
	"spf-without-end":       {`@ TXT "v=spf1 mx"`, `@ TXT "v=spf1 redirect=x.y"`},
	"spf-record-type":       {`@ SPF "v=spf1 -all"`, `@ TXT "v=spf1 -all"`},
	"dkim-unreadable":       {`a._domainkey TXT "v=DKIM1; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHUR"`, `a._domainkey TXT "v=DKIM1; k=ed25519; " "p=11qYAYKxCrfVS/7TyWQHOg7hcv" "PapiMlrwIaaPcHURo="|b._domainkey TXT "v=DKIM1; p="`},
	"dkim-weak":             {`a._domainkey TXT "p=MFwwDQYJKoZIhvcNAQEBBQADSwAwSAJBAKj34GkxFhD90vcNLYLInFEX6Ppy1tPf9Cnzj4p4WGeKLs1Pt8QuKUpRKfFLfRYC9AIKjbJTWit+CqvjWYzvQwECAwEAAQ=="`, `a._domainkey TXT "k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="`},
	"several-dmarc":         {`_dmarc TXT "v=DMARC1; p=none"|_dmarc TXT "v=DMARC1; p=reject"`, `_dmarc TXT "v=DMARC1; p=none"|_dmarc.a TXT "v=DMARC1; p=none"`},
	"dmarc-syntax":          {`_dmarc TXT "v=DMARC1; p=quarantaine"`, `_dmarc TXT "v=DMARC1; p=Reject; sp=none; pct=50; rua=mailto:a@x.y,mailto:b@x.y"`},
	"dmarc-unrecognised":    {`_dmarc TXT "p=none"`, `_dmarc TXT "v=DMARC1; p=none"|dmarc TXT "p=none"`},
	"mail-without-spf":      {"@ MX 10 m.x.test.", `@ MX 10 m.x.test.|@ TXT "v=spf1 -all"`},
	"mail-without-dmarc":    {"@ MX 10 m.x.test.", "@ MX 0 ."},
	"null-mx-beside-others": {"@ MX 0 .|@ MX 10 m.x.test.", "@ MX 0 .|a MX 10 m.x.test."},
	"unreachable-address":   {"@ A 10.0.0.1", "@ A 192.0.2.1|@ A 8.8.4.4|@ AAAA 2001:db8::1"},
	"ttl-too-large":         {"", "@ 2147483647 A 192.0.2.1"}, // cannot be written; see TestTTLThatCannotBeWritten
	"ttl-zero":              {"@ 0 A 192.0.2.1", "@ 1 A 192.0.2.1"},
	"ttl-over-week":         {"@ 604801 A 192.0.2.1", "@ 604800 A 192.0.2.1"},
	"repeated-record":       {"a A 192.0.2.1|A A 192.0.2.1", "a A 192.0.2.1|a A 192.0.2.2|b A 192.0.2.1"},
	"unequal-ttls":          {"a 60 A 192.0.2.1|a 90 A 192.0.2.2", "a 60 A 192.0.2.1|a 90 AAAA 2001:db8::1"},
	"curly-quotes":          {`a TXT "\226\128\156x\226\128\157"`, `a TXT "\195\164 'x'"`},
	"quotes-in-text":        {`a TXT "\"x\""`, `a TXT "say \"x\""`},
	"caa-unknown-tag":       {`@ CAA 0 isue "ca.example"`, `@ CAA 0 issuewild "ca.example"`},
	"caa-value":             {`@ CAA 0 issue "https://ca.example"`, `@ CAA 0 issue "ca.example; account=1"|@ CAA 0 iodef "mailto:a@x.y"|@ CAA 0 issuewild ";"`},
	"caa-forbids-all":       {`@ CAA 0 issue ";"|@ A 192.0.2.1`, `@ CAA 0 issue ";"|@ CAA 0 issue "ca.example"|@ A 192.0.2.1|a CAA 0 issue ";"|b CAA 0 issuewild ";"|b A 192.0.2.1`},
	"srv-owner":             {"tides SRV 1 1 1 a.x.test.", "_tides._tcp SRV 1 1 1 a.x.test."},
	"tlsa-owner":            {"_tcp TLSA 3 1 1 " + sha256, "_25._tcp.mail TLSA 3 1 1 " + sha256 + "|*._tcp TXT x"},
}

func TestEveryRuleSpeaksAndKeepsStill(t *testing.T) {
	var described []string
	for _, r := range All() {
		described = append(described, r.Code)
		assert.NotEmpty(t, r.Meaning, r.Code)
		assert.True(t, strings.HasSuffix(r.Remedy, ".") || strings.HasSuffix(r.Remedy, "…"), "%s: a remedy is a sentence", r.Code)
		row, ok := rows[r.Code]
		if !assert.True(t, ok, "%s has no row", r.Code) {
			continue
		}
		for i, text := range row {
			got := judge(t, strings.ReplaceAll(text, "|", "\n")+"\n")
			if i == 0 && text != "" {
				assert.Contains(t, codes(got), r.Code, text)
			}
			if i == 1 {
				assert.NotContains(t, codes(got), r.Code, text)
			}
			for _, f := range got {
				assert.NotEmpty(t, f.Message)
				want := slices.DeleteFunc(slices.Clone(got), func(o Found) bool { return o.Key != f.Key })
				assert.Equal(t, want, judgeOnly(t, strings.ReplaceAll(text, "|", "\n")+"\n", f.Key), "asked for %s only: %s", f.Key, text)
			}
		}
	}
	assert.Len(t, rows, len(described), "a row for a rule that is not there")
	assert.True(t, slices.IsSorted(described))
	assert.Len(t, slices.Compact(described), len(rows), "every code once")
}

func TestTTLThatCannotBeWritten(t *testing.T) {
	z := Zone{Name: origin, Contents: record.ContentsOf(record.NewSet(origin, record.A, 1<<31, "192.0.2.1"))}
	assert.Contains(t, codes(Check(z)), "ttl-too-large")
	assert.Len(t, Errors(Check(z)), 1)
}

// What is offered as a fix mends what it is offered for, and breaks nothing else.
func TestFixesMend(t *testing.T) {
	fixed := 0
	for code, row := range rows {
		for _, f := range judge(t, strings.ReplaceAll(row[0], "|", "\n")+"\n") {
			if f.Code != code || len(f.Fix) == 0 {
				continue
			}
			fixed++
			z, _ := zonefile.Read(strings.ReplaceAll(row[0], "|", "\n")+"\n", zonefile.Options{Origin: origin, TTL: 300})
			c := z.Contents()
			for _, e := range f.Fix {
				if !e.Before.IsZero() {
					c = c.Without(e.Before.Key())
				}
				if !e.After.IsZero() {
					c = c.With(e.After)
				}
			}
			after := Check(Zone{Name: origin, Contents: c, Believe: believed(t)})
			assert.NotContains(t, codes(after), code, "%v", f.Fix)
			assert.LessOrEqual(t, len(Errors(after)), len(Errors(judge(t, strings.ReplaceAll(row[0], "|", "\n")+"\n"))), code)
		}
	}
	assert.GreaterOrEqual(t, fixed, 9)
}
