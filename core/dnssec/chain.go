package dnssec

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Link is one zone on the way from the root: what its parent says of its keys, and its keys.
type Link struct {
	Zone    string  `json:"zone"`
	DS      Records `json:"ds,omitempty"`      // the DS set, or the proof that there is none, as the parent's servers give it
	Keys    Records `json:"keys,omitempty"`    // the DNSKEY set with its signatures
	Problem string  `json:"problem,omitempty"` // why one of them could not be had
}

// Trust is what following a chain came to: the keys of the last zone, where they are proven.
type Trust struct {
	State  State
	Zone   string        // the last zone
	Keys   []*dns.DNSKEY // of the last zone; only where secure
	DS     []*dns.DS     // of the last zone, proven
	Faults []Fault       // why it is not secure; empty where that is as it should be
	Ends   *time.Time    // when the first of the signatures on the way runs out
}

// Follow goes from the anchors along the links to the last of them.
func Follow(anchors Records, links []Link, now time.Time) Trust {
	trust := Trust{State: Indeterminate, Zone: "."}
	if len(anchors) == 0 {
		trust.Faults = []Fault{{NoAnchor, ".", "no trust anchor is known here"}}
		return trust
	}
	for i, l := range links {
		zone := dns.CanonicalName(l.Zone)
		known, _ := anchors.Set(zone, dns.TypeDS)
		switch {
		case len(known) > 0:
			trust = trust.enter(l, Records(known).DS(), now)
		case i == 0 || trust.State == Indeterminate && len(trust.Faults) == 0:
			trust = Trust{State: Indeterminate, Zone: zone, Faults: []Fault{{NoAnchor, zone, "no trust anchor covers " + zone}}}
		case trust.State == Secure:
			trust = trust.Step(l, now)
		default: // insecure stays insecure, bogus bogus
			trust.Zone = zone
		}
	}
	return trust
}

// Step goes from a secure zone to one below it.
func (t Trust) Step(l Link, now time.Time) Trust {
	zone := dns.CanonicalName(l.Zone)
	set, sigs := l.DS.Set(zone, dns.TypeDS)
	if len(set) == 0 {
		if l.Problem != "" && len(l.DS) == 0 {
			return Trust{State: Indeterminate, Zone: zone, Faults: []Fault{{NotAsked, zone, l.Problem}}}
		}
		d := Absent(zone, dns.TypeDS, l.DS, t.Keys, t.Zone, now)
		out := Trust{State: Insecure, Zone: zone}
		if d.State == Bogus {
			out.State, out.Faults = Bogus, []Fault{*d.Fault}
		}
		return out
	}
	p := Verify(set, sigs, t.Keys, t.Zone, now)
	if p.State != Secure {
		return Trust{State: Bogus, Zone: zone, Faults: []Fault{*p.Fault}}
	}
	t.Ends = sooner(t.Ends, p.Ends)
	return t.enter(l, Records(set).DS(), now)
}

// enter proves the keys of a zone by DS records (RFC 4035 section 5.2).
func (t Trust) enter(l Link, list []*dns.DS, now time.Time) Trust {
	zone := dns.CanonicalName(l.Zone)
	out := Trust{State: Bogus, Zone: zone, DS: list, Ends: t.Ends}
	usable := Usable(list)
	if len(usable) == 0 {
		out.State = Insecure
		out.Faults = []Fault{{NothingToVerify, zone, "its DS records have no algorithm and digest that validators verify: " + tags(list)}}
		return out
	}
	set, sigs := l.Keys.Set(zone, dns.TypeDNSKEY)
	if len(set) == 0 {
		if l.Problem != "" {
			out.State, out.Faults = Indeterminate, []Fault{{NotAsked, zone, l.Problem}}
			return out
		}
		out.Faults = []Fault{{NoMatchingKey, zone, fmt.Sprintf("the parent has DS records (%s), and the zone has no DNSKEY record at all", tags(usable))}}
		return out
	}
	keys := Records(set).Keys()
	entry := Matching(usable, keys)
	if len(entry) == 0 {
		out.Faults = []Fault{{NoMatchingKey, zone, fmt.Sprintf("no key of the zone (%s) fits a DS record of the parent (%s)", keyTags(keys), tags(usable))}}
		return out
	}
	p := Verify(set, sigs, entry, zone, now)
	if p.State != Secure {
		f := *p.Fault
		if f.Kind == Unsigned || f.Kind == SignerUnknown {
			f = Fault{KeysUnsigned, zone, fmt.Sprintf("its DNSKEY set is not signed by a key that the DS records name (%s)", keyTags(entry))}
		}
		out.Faults = []Fault{f}
		return out
	}
	out.State, out.Ends = Secure, sooner(t.Ends, p.Ends)
	out.Keys = slices.DeleteFunc(keys, func(k *dns.DNSKEY) bool { return k.Flags&dns.ZONE == 0 || k.Protocol != 3 || k.Flags&dns.REVOKE != 0 })
	return out
}

// Usable returns the DS records that validators can use; where there is a better digest for an algorithm, SHA-1 does not
// count (RFC 4509 section 3).
func Usable(list []*dns.DS) (out []*dns.DS) {
	better := false
	for _, ds := range list {
		better = better || Verifiable(ds.Algorithm) && DigestVerifiable(ds.DigestType) && ds.DigestType != dns.SHA1
	}
	for _, ds := range list {
		if Verifiable(ds.Algorithm) && DigestVerifiable(ds.DigestType) && (ds.DigestType != dns.SHA1 || !better) {
			out = append(out, ds)
		}
	}
	return out
}

// Matching returns the keys that fit one of the DS records.
func Matching(list []*dns.DS, keys []*dns.DNSKEY) (out []*dns.DNSKEY) {
	for _, k := range keys {
		if slices.ContainsFunc(list, func(ds *dns.DS) bool { return Fits(ds, k) }) {
			out = append(out, k)
		}
	}
	return out
}

// Fits reports whether a DS record is that of a key (RFC 4034 section 5.2).
func Fits(ds *dns.DS, k *dns.DNSKEY) bool {
	if ds.KeyTag != k.KeyTag() || ds.Algorithm != k.Algorithm || k.Flags&dns.ZONE == 0 || k.Protocol != 3 || k.Flags&dns.REVOKE != 0 {
		return false
	}
	own := k.ToDS(ds.DigestType)
	return own != nil && strings.EqualFold(own.Digest, ds.Digest)
}

func sooner(a, b *time.Time) *time.Time {
	if a == nil || b != nil && b.Before(*a) {
		return b
	}
	return a
}

func tags(list []*dns.DS) string {
	parts := make([]string, len(list))
	for i, ds := range list {
		parts[i] = fmt.Sprintf("key %d, algorithm %s, digest %s", ds.KeyTag, Algorithm(ds.Algorithm), Digest(ds.DigestType))
	}
	return strings.Join(parts, "; ")
}

func keyTags(keys []*dns.DNSKEY) string {
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = fmt.Sprintf("%d, algorithm %s", k.KeyTag(), Algorithm(k.Algorithm))
	}
	return strings.Join(parts, "; ")
}
