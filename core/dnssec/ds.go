package dnssec

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// DSOf returns the data of DS records with a SHA-256 digest (RFC 4509) for the keys of a zone that sign its key set, sorted, and these keys
// in the same order: only those with the SEP flag where there are any (RFC 4034 section 2.1.1).
func DSOf(keys Records, zone string, now time.Time) (ds []string, signing []*dns.DNSKEY) {
	set, sigs := keys.Set(zone, dns.TypeDNSKEY)
	for _, k := range keys.Keys() {
		if k.Flags&dns.REVOKE == 0 && Verify(set, sigs, []*dns.DNSKEY{k}, zone, now).Fault == nil {
			signing = append(signing, k)
		}
	}
	if slices.ContainsFunc(signing, func(k *dns.DNSKEY) bool { return k.Flags&dns.SEP != 0 }) {
		signing = slices.DeleteFunc(signing, func(k *dns.DNSKEY) bool { return k.Flags&dns.SEP == 0 })
	}
	text := func(k *dns.DNSKEY) string {
		d := k.ToDS(dns.SHA256)
		if d == nil {
			return ""
		}
		return fmt.Sprintf("%d %d %d %s", d.KeyTag, d.Algorithm, d.DigestType, strings.ToUpper(d.Digest))
	}
	signing = slices.DeleteFunc(signing, func(k *dns.DNSKEY) bool { return text(k) == "" })
	slices.SortFunc(signing, func(a, b *dns.DNSKEY) int { return strings.Compare(text(a), text(b)) })
	for _, k := range signing {
		ds = append(ds, text(k))
	}
	return ds, signing
}
