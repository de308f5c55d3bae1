package dnssec

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// MostIterations is how many NSEC3 iterations validators still compute; beyond, the usual ones take the absence for
// insecure (RFC 9276 section 3.2 lets them go lower).
const MostIterations = 150

// Denial is what a proof of absence came to.
type Denial struct {
	State      State
	Fault      *Fault
	Iterations uint16 // of its NSEC3 records
	Salted     bool   // its NSEC3 records have a salt
	OptOut     bool   // the proof rests on a span in which unsigned delegations may lie
	Delegation bool   // the name is a delegation point: NS, and no SOA
	Exists     bool   // the name exists, though the type does not
}

// Absent proves by the records of an authority section that a type does not exist at a name, or the name itself does
// not (RFC 4035 section 5.4, RFC 5155 section 8, RFC 9824).
func Absent(name string, t uint16, authority Records, keys []*dns.DNSKEY, zone string, now time.Time) Denial {
	name = dns.CanonicalName(name)
	nsec, nsec3 := of[*dns.NSEC](authority), of[*dns.NSEC3](authority)
	what := fmt.Sprintf("the absence of %s %s", name, dns.TypeToString[t])
	if dns.TypeToString[t] == "" {
		what = "the absence of " + name
	}
	if len(nsec)+len(nsec3) == 0 {
		return Denial{State: Bogus, Fault: &Fault{DenialMissing, zone, what + " comes without proof: no NSEC or NSEC3 record is with it"}}
	}
	out := Denial{}
	for _, rr := range nsec3 {
		out.Iterations, out.Salted = max(out.Iterations, rr.Iterations), out.Salted || rr.SaltLength > 0
	}
	if out.Iterations > MostIterations {
		out.State = Insecure
		return out
	}
	if f := provenAll(authority, keys, zone, now); f != nil {
		out.State, out.Fault = Bogus, f
		return out
	}
	proven := false
	if len(nsec3) > 0 {
		proven = out.byNSEC3(name, t, nsec3, dns.CanonicalName(zone))
	} else {
		proven = out.byNSEC(name, t, nsec)
	}
	if out.State = Secure; !proven {
		out.State, out.Fault = Bogus, &Fault{DenialWrong, zone, what + " is not proven by the NSEC records that come with it"}
	}
	return out
}

// provenAll verifies every NSEC and NSEC3 record. One that fails takes its proof with it.
func provenAll(authority Records, keys []*dns.DNSKEY, zone string, now time.Time) *Fault {
	done := map[string]bool{}
	for _, rr := range authority {
		h := rr.Header()
		if h.Rrtype != dns.TypeNSEC && h.Rrtype != dns.TypeNSEC3 || done[h.Name] || len(done) > 8 {
			continue
		}
		done[h.Name] = true
		set, sigs := authority.Set(h.Name, h.Rrtype)
		if p := Verify(set, sigs, keys, zone, now); p.State != Secure {
			return p.Fault
		}
	}
	return nil
}

// lacks tells by the types of an NSEC record whether a type is absent there, and notes what is said of delegations. A
// record of the parent's side speaks for DS alone (RFC 6840 section 4.1).
func (d *Denial) lacks(types []uint16, t uint16) bool {
	has := func(t uint16) bool { return slices.Contains(types, t) }
	d.Delegation = has(dns.TypeNS) && !has(dns.TypeSOA)
	d.Exists = !has(typeNXName)
	switch {
	case has(t) || has(dns.TypeCNAME):
		return false
	case t == dns.TypeDS:
		return !has(dns.TypeSOA)
	}
	return !d.Delegation
}

// typeNXName is the type that marks a name as absent in proofs made up on the fly (RFC 9824 section 2).
const typeNXName = 128

func (d *Denial) byNSEC(name string, t uint16, list []*dns.NSEC) bool {
	covered := false
	encloser := ""
	for _, rr := range list {
		owner, next := dns.CanonicalName(rr.Hdr.Name), dns.CanonicalName(rr.NextDomain)
		switch {
		case owner == name:
			return d.lacks(rr.TypeBitMap, t)
		case between(owner, name, next):
			if dns.IsSubDomain(name, next) { // an empty non-terminal: it exists, and holds nothing
				d.Exists = true
				return true
			}
			if dns.IsSubDomain(owner, name) && slices.Contains(rr.TypeBitMap, dns.TypeNS) && !slices.Contains(rr.TypeBitMap, dns.TypeSOA) || slices.Contains(rr.TypeBitMap, dns.TypeDNAME) && dns.IsSubDomain(owner, name) {
				continue // it lies below a delegation, of which this record says nothing
			}
			covered = true
			encloser = longer(common(name, owner), common(name, next))
		}
	}
	if !covered {
		return false
	}
	wildcard := "*." + strings.TrimPrefix(encloser, ".")
	if encloser == "." {
		wildcard = "*."
	}
	for _, rr := range list {
		owner, next := dns.CanonicalName(rr.Hdr.Name), dns.CanonicalName(rr.NextDomain)
		if owner == wildcard {
			return d.lacks(rr.TypeBitMap, t)
		}
		if between(owner, wildcard, next) {
			return true
		}
	}
	return false
}

func longer(a, b string) string {
	if dns.CountLabel(b) > dns.CountLabel(a) {
		return b
	}
	return a
}

// common returns the longest name that two names lie below.
func common(a, b string) string {
	n := dns.CompareDomainName(a, b)
	labels := dns.SplitDomainName(a)
	return dns.Fqdn(strings.Join(labels[len(labels)-n:], "."))
}

// between reports whether a name lies in the span of an NSEC record, which may be the last and lead back to the apex.
func between(owner, name, next string) bool {
	if compare(owner, next) < 0 {
		return compare(owner, name) < 0 && compare(name, next) < 0
	}
	return compare(owner, name) < 0 || compare(name, next) < 0
}

// compare orders names canonically (RFC 4034 section 6.1).
func compare(a, b string) int {
	x, y := wireLabels(a), wireLabels(b)
	for i := 1; i <= min(len(x), len(y)); i++ {
		if c := strings.Compare(x[len(x)-i], y[len(y)-i]); c != 0 {
			return c
		}
	}
	return len(x) - len(y)
}

// wireLabels returns the labels of a name as octets, in lower case.
func wireLabels(name string) []string {
	buf := make([]byte, 256)
	n, err := dns.PackDomainName(dns.CanonicalName(name), buf, 0, nil, false)
	if err != nil {
		return nil
	}
	var out []string
	for at := 0; at < n && buf[at] > 0; at += int(buf[at]) + 1 {
		out = append(out, string(buf[at+1:at+1+int(buf[at])]))
	}
	return out
}

func (d *Denial) byNSEC3(name string, t uint16, list []*dns.NSEC3, zone string) bool {
	list = slices.DeleteFunc(slices.Clone(list), func(rr *dns.NSEC3) bool {
		return rr.Hash != dns.SHA1 || !strings.EqualFold(rr.Hdr.Name[strings.IndexByte(rr.Hdr.Name, '.')+1:], strings.TrimPrefix(zone, ".")) && zone != "."
	})
	if rr := matching(list, name); rr != nil {
		return d.lacks(rr.TypeBitMap, t)
	}
	// The closest encloser: a name above that exists, while the next one below it does not (RFC 5155 section 8.3).
	next := name
	for at, end := dns.NextLabel(name, 0); !end; at, end = dns.NextLabel(name, at) {
		above := name[at:]
		if !dns.IsSubDomain(zone, above) {
			return false
		}
		found := matching(list, above)
		if found == nil {
			next = above
			continue
		}
		if slices.Contains(found.TypeBitMap, dns.TypeDNAME) || slices.Contains(found.TypeBitMap, dns.TypeNS) && !slices.Contains(found.TypeBitMap, dns.TypeSOA) {
			return false
		}
		cover := covering(list, next)
		if cover == nil {
			return false
		}
		d.OptOut = cover.Flags&1 != 0
		if d.OptOut && t == dns.TypeDS { // an unsigned delegation may lie here (RFC 5155 section 8.6)
			d.Delegation = true
			return true
		}
		if rr := matching(list, "*."+above); rr != nil {
			return d.lacks(rr.TypeBitMap, t)
		}
		return covering(list, "*."+above) != nil
	}
	return false
}

// hashed returns the hash of a name as an NSEC3 record has it, the hash of the record's owner, and the next one.
func hashed(rr *dns.NSEC3, name string) (hash, owner, next string) {
	owner, _, _ = strings.Cut(rr.Hdr.Name, ".")
	return dns.HashName(name, rr.Hash, rr.Iterations, rr.Salt), strings.ToUpper(owner), strings.ToUpper(rr.NextDomain)
}

func matching(list []*dns.NSEC3, name string) *dns.NSEC3 {
	for _, rr := range list {
		if hash, owner, _ := hashed(rr, name); hash == owner && hash != "" {
			return rr
		}
	}
	return nil
}

func covering(list []*dns.NSEC3, name string) *dns.NSEC3 {
	for _, rr := range list {
		hash, owner, next := hashed(rr, name)
		inside := owner < hash && hash < next
		if owner >= next { // the last one, which leads back to the first
			inside = hash > owner || hash < next
		}
		if inside && hash != "" {
			return rr
		}
	}
	return nil
}
