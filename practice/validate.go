package practice

import (
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// security is what a validator says of an answer (RFC 4035 section 4.3).
type security int

const (
	insecure security = iota
	secure
	bogus
)

// judge says whether an answer is signed as the chain from the root wants it. That a name from a wildcard has none of its own is not asked for.
func (r *resolver) judge(name string, qtype uint16, c cached) security {
	if len(c.answer) > 0 {
		qtype = c.answer[0].Header().Rrtype
	}
	zone, keys, state := r.chain(name, qtype)
	if state != secure {
		return state
	}
	if len(c.answer) > 0 {
		if r.signed(c.answer, c.proof, zone, keys) {
			return secure
		}
		return bogus
	}
	for _, rr := range c.proof {
		if n, ok := rr.(*dns.NSEC); ok && r.signed([]dns.RR{n}, c.proof, zone, keys) {
			if owner := dns.CanonicalName(n.Hdr.Name); owner == name && !slices.Contains(n.TypeBitMap, qtype) || covers(owner, dns.CanonicalName(n.NextDomain), zone, name) {
				return secure
			}
		}
	}
	return bogus
}

// covers reports whether an NSEC record says that there is nothing at name. Names above others without data are covered too.
func covers(owner, next, zone, name string) bool {
	return compareNames(owner, name) < 0 && (next == zone || compareNames(name, next) < 0)
}

// signed reports whether one of the keys signed a set, at this time.
func (r *resolver) signed(set, sigs []dns.RR, zone string, keys []*dns.DNSKEY) bool {
	h := set[0].Header()
	for _, rr := range sigs {
		sig, ok := rr.(*dns.RRSIG)
		if !ok || sig.TypeCovered != h.Rrtype || !strings.EqualFold(sig.Hdr.Name, h.Name) || dns.CanonicalName(sig.SignerName) != zone || !sig.ValidityPeriod(r.world.clock.now()) {
			continue
		}
		for _, k := range keys {
			if k.KeyTag() == sig.KeyTag && sig.Verify(k, set) == nil {
				return true
			}
		}
	}
	return false
}

// chain follows the delegations from the root to the zone that name is in, and returns its keys; a set of DS records is its parent's.
func (r *resolver) chain(name string, qtype uint16) (zone string, keys []*dns.DNSKEY, state security) {
	anchor, err := dns.NewRR(r.world.Anchor())
	if err != nil || anchor == nil {
		return ".", nil, insecure
	}
	if keys = r.keys(".", []dns.RR{anchor}); keys == nil {
		return ".", nil, bogus
	}
	zone = "."
	labels := dns.SplitDomainName(name)
	for i := len(labels) - 1; i >= 0; i-- {
		below := dns.Fqdn(strings.Join(labels[i:], "."))
		if below == name && qtype == dns.TypeDS {
			break
		}
		ds := r.lookup(below, dns.TypeDS, 0)
		if ds.rcode == dns.RcodeServerFailure {
			return zone, nil, bogus
		}
		if len(ds.answer) > 0 && ds.answer[0].Header().Rrtype == dns.TypeDS {
			if !r.signed(ds.answer, ds.proof, zone, keys) {
				return zone, nil, bogus
			}
			zone = below
			if keys = r.keys(below, ds.answer); keys == nil {
				return zone, nil, bogus
			}
			continue
		}
		if len(ds.answer) > 0 { // a CNAME: no zone begins here
			continue
		}
		cut, proven := r.denial(below, ds, zone, keys)
		if !proven {
			return zone, nil, bogus
		}
		if cut {
			return below, nil, insecure
		}
	}
	return zone, keys, secure
}

// denial reads what shows that there is no DS set at a name: whether a zone begins there, and whether that is proven.
func (r *resolver) denial(name string, c cached, zone string, keys []*dns.DNSKEY) (cut, proven bool) {
	for _, rr := range c.proof {
		n, ok := rr.(*dns.NSEC)
		if !ok || !r.signed([]dns.RR{n}, c.proof, zone, keys) {
			continue
		}
		owner := dns.CanonicalName(n.Hdr.Name)
		if owner == name && !slices.Contains(n.TypeBitMap, dns.TypeDS) {
			return slices.Contains(n.TypeBitMap, dns.TypeNS) && !slices.Contains(n.TypeBitMap, dns.TypeSOA), true
		}
		proven = proven || covers(owner, dns.CanonicalName(n.NextDomain), zone, name)
	}
	return false, proven
}

// keys returns the key set of a zone if one of them is named by the DS set and signed all of them; nil else.
func (r *resolver) keys(zone string, ds []dns.RR) (list []*dns.DNSKEY) {
	c := r.lookup(zone, dns.TypeDNSKEY, 0)
	var trusted []*dns.DNSKEY
	for _, rr := range c.answer {
		k, ok := rr.(*dns.DNSKEY)
		if !ok {
			return nil
		}
		list = append(list, k)
		for _, d := range ds {
			d := d.(*dns.DS)
			if made := k.ToDS(d.DigestType); d.KeyTag == k.KeyTag() && made != nil && strings.EqualFold(made.Digest, d.Digest) {
				trusted = append(trusted, k)
			}
		}
	}
	if len(trusted) == 0 || !r.signed(c.answer, c.proof, zone, trusted) {
		return nil
	}
	return list
}
