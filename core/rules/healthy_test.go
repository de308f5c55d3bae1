package rules

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// healthy writes a zone as a careful operator would, of parts that real zones have.
func healthy(r *rand.Rand) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	some := func(share float64) bool { return r.Float64() < share }
	line("$TTL %d", []int{300, 3600, 86400}[r.IntN(3)])
	line("@ SOA ns1.plover.test. admin.plover.test. 7 3600 600 86400 300")
	line("@ NS ns1.plover.test.\n@ NS ns2.plover.test.")
	line("@ A 192.0.2.%d", 1+r.IntN(200))
	line([]string{"www CNAME @", "www A 192.0.2.9\nwww AAAA 2001:db8::9", "* CNAME @"}[r.IntN(3)])
	if some(0.7) {
		line("@ MX 10 mail\nmail A 192.0.2.25\n@ MX 20 mx.post.example.")
		line(`@ TXT "v=spf1 mx include:_spf.post.example ip4:192.0.2.25 %sall"`, []string{"-", "~"}[r.IntN(2)])
		line(`_dmarc TXT "v=DMARC1; p=%s; rua=mailto:reports@saltmarsh-ferries.example"`, []string{"none", "quarantine", "reject"}[r.IntN(3)])
		line(`k%d._domainkey TXT "v=DKIM1; k=ed25519; " "p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="`, r.IntN(9))
		line("_submission._tcp SRV 0 1 587 mail\n_imap._tcp SRV 0 0 0 .")
	} else if some(0.5) {
		line("@ MX 0 .\n@ TXT \"v=spf1 -all\"")
	}
	if some(0.4) {
		line("@ CAA 0 issue \"ca.example\"\n@ CAA 0 issuewild \";\"\n@ CAA 0 iodef \"mailto:hostmaster@saltmarsh-ferries.example\"")
	}
	if some(0.3) {
		line("pier NS ns1.pier\npier NS ns.other.test.\nns1.pier A 192.0.2.53\npier DS 4711 13 2 %s", sha256)
	}
	if some(0.3) {
		line("gate SSHFP 4 2 %s\ngate A 192.0.2.7\n_443._tcp.gate TLSA 3 1 1 %s", sha256, sha256)
	}
	if some(0.2) {
		line("old DNAME new.saltmarsh-ferries.example.\nnew A 192.0.2.3")
	}
	for i := range r.IntN(20) {
		line("gauge-%d %d A 192.0.2.%d", i, 60+r.IntN(3600), r.IntN(250))
		if some(0.3) {
			line("g%d CNAME gauge-%d", i, i)
		}
	}
	return b.String()
}

func TestHealthyZonesAreLeftAlone(t *testing.T) {
	for seed := range uint64(200) {
		text := healthy(rand.New(rand.NewPCG(seed, 4)))
		for _, f := range judge(t, text) {
			assert.Less(t, f.Severity, finding.Warning, "%s in\n%s", f.Finding, text)
		}
	}
}

// All rules over a million records, beside reading them.
func BenchmarkMillion(b *testing.B) {
	var text strings.Builder
	for i := range 1_000_000 {
		fmt.Fprintf(&text, "h%d 3600 A 192.0.2.%d\n", i, i%250)
	}
	source := text.String()
	var contents record.Contents
	b.Run("read", func(b *testing.B) {
		for range b.N {
			z, _ := zonefile.Read(source, zonefile.Options{Origin: origin})
			contents = z.Contents()
		}
	})
	b.Run("check", func(b *testing.B) {
		for range b.N {
			_ = Check(Zone{Name: origin, Contents: contents})
		}
	})
}
