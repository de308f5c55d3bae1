package dnssec

import (
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/cloudflare/circl/sign/ed448"
	"github.com/miekg/dns"
)

// mostTries bounds how many signatures of one set are verified: whoever sends thousands of keys and signatures with
// one tag wants others to compute (CVE-2023-50387).
const mostTries = 16

// Proof is what verifying one record set came to.
type Proof struct {
	State State
	Fault *Fault     // why it is not secure
	Ends  *time.Time // when the signature that proves it runs out
	Sig   *dns.RRSIG // the signature that proves it
}

// Verify proves a record set by the keys of its zone: one signature that fits is enough (RFC 4035 section 5.3).
func Verify(set []dns.RR, sigs []*dns.RRSIG, keys []*dns.DNSKEY, zone string, now time.Time) Proof {
	if len(set) == 0 {
		return Proof{State: Indeterminate, Fault: &Fault{NotAsked, zone, "there is nothing to verify"}}
	}
	what := fmt.Sprintf("%s %s", set[0].Header().Name, dns.TypeToString[set[0].Header().Rrtype])
	fault := &Fault{Unsigned, zone, what + " has no signature"}
	tries := 0
	for _, sig := range sigs {
		if dns.CanonicalName(sig.SignerName) != dns.CanonicalName(zone) {
			fault = worse(fault, &Fault{SignerUnknown, zone, fmt.Sprintf("the signature over %s is by %s", what, sig.SignerName)})
			continue
		}
		fits := slices.DeleteFunc(slices.Clone(keys), func(k *dns.DNSKEY) bool { return k.KeyTag() != sig.KeyTag || k.Algorithm != sig.Algorithm })
		if len(fits) == 0 {
			fault = worse(fault, &Fault{SignerUnknown, zone, fmt.Sprintf("the signature over %s is by key %d (%s), which %s does not publish", what, sig.KeyTag, Algorithm(sig.Algorithm), zone)})
		}
		for _, k := range fits {
			if tries++; tries > mostTries {
				return Proof{State: Bogus, Fault: fault}
			}
			if f := check(set, sig, k, what, zone, now); f != nil {
				fault = worse(fault, f)
				continue
			}
			ends := moment(sig.Expiration, now)
			return Proof{State: Secure, Ends: &ends, Sig: sig}
		}
	}
	return Proof{State: Bogus, Fault: fault}
}

// worse keeps the fault that says more: the better a signature fits, the more its fault explains.
func worse(a, b *Fault) *Fault {
	order := []Kind{Unsigned, SignerUnknown, SignatureWrong, SignatureEarly, SignatureOver}
	if slices.Index(order, b.Kind) >= slices.Index(order, a.Kind) {
		return b
	}
	return a
}

func check(set []dns.RR, sig *dns.RRSIG, k *dns.DNSKEY, what, zone string, now time.Time) *Fault {
	if err := verifyOne(set, sig, k); err != nil {
		return &Fault{SignatureWrong, zone, fmt.Sprintf("the signature over %s by key %d does not fit the data", what, sig.KeyTag)}
	}
	from, until := moment(sig.Inception, now), moment(sig.Expiration, now)
	switch {
	case now.Before(from):
		return &Fault{SignatureEarly, zone, fmt.Sprintf("the signature over %s is valid from %s only", what, from.UTC().Format(time.DateTime))}
	case now.After(until):
		return &Fault{SignatureOver, zone, fmt.Sprintf("the signature over %s ran out at %s", what, until.UTC().Format(time.DateTime))}
	}
	return nil
}

// moment reads a time of a signature, a serial number of seconds (RFC 4034 section 3.1.5), as the one nearest to now.
func moment(seconds uint32, now time.Time) time.Time {
	return now.Add(time.Duration(int32(seconds-uint32(now.Unix()))) * time.Second).Truncate(time.Second)
}

func verifyOne(set []dns.RR, sig *dns.RRSIG, k *dns.DNSKEY) (err error) {
	defer func() { // what others send must not end us, whatever a library makes of it
		if r := recover(); r != nil {
			err = errors.New("the signature cannot be read")
		}
	}()
	if k.Algorithm == dns.ED448 {
		return verifyEd448(set, sig, k)
	}
	if isShortRSA(k) {
		return verifyShortRSA(set, sig, k)
	}
	set = slices.Clone(set)
	for i, rr := range set { // the library changes names to lower case and TTLs in place
		set[i] = dns.Copy(rr)
	}
	return sig.Verify(k, set)
}

// verifyEd448 verifies algorithm 16 (RFC 8080), which the DNS library has not: the signed octets are those of RFC 4034
// section 3.1.8.1.
func verifyEd448(set []dns.RR, sig *dns.RRSIG, k *dns.DNSKEY) error {
	key, err := base64.StdEncoding.DecodeString(k.PublicKey)
	if err != nil || len(key) != ed448.PublicKeySize {
		return errors.New("the key is no Ed448 key")
	}
	signature, err := base64.StdEncoding.DecodeString(sig.Signature)
	if err != nil {
		return err
	}
	octets, err := signedOctets(set, sig)
	if err != nil {
		return err
	}
	if !ed448.Verify(key, octets, signature, "") {
		return errors.New("the signature does not fit")
	}
	return nil
}

func signedOctets(set []dns.RR, sig *dns.RRSIG) ([]byte, error) {
	head := &dns.RRSIG{Hdr: dns.RR_Header{Name: ".", Rrtype: dns.TypeRRSIG, Class: dns.ClassINET}, TypeCovered: sig.TypeCovered, Algorithm: sig.Algorithm,
		Labels: sig.Labels, OrigTtl: sig.OrigTtl, Expiration: sig.Expiration, Inception: sig.Inception, KeyTag: sig.KeyTag, SignerName: dns.CanonicalName(sig.SignerName)}
	buf := make([]byte, 65535)
	n, err := dns.PackRR(head, buf, 0, nil, false)
	if err != nil {
		return nil, err
	}
	octets := slices.Clone(buf[11:n]) // behind the header of a record of the root
	var lines [][]byte
	for _, rr := range set {
		rr = lower(rr)
		h := rr.Header()
		h.Name, h.Ttl = dns.CanonicalName(h.Name), sig.OrigTtl
		if labels := dns.SplitDomainName(h.Name); len(labels) > int(sig.Labels) {
			h.Name = "*." + dns.Fqdn(strings.Join(labels[len(labels)-int(sig.Labels):], "."))
		}
		n, err := dns.PackRR(rr, buf, 0, nil, false)
		if err != nil {
			return nil, err
		}
		lines = append(lines, slices.Clone(buf[:n]))
	}
	slices.SortFunc(lines, slices.Compare)
	for _, line := range slices.CompactFunc(lines, slices.Equal) {
		octets = append(octets, line...)
	}
	return octets, nil
}

// lower copies a record with the names in it in lower case, where signatures are over them so (RFC 4034 section 6.2).
func lower(rr dns.RR) dns.RR {
	switch rr.Header().Rrtype {
	case dns.TypeNS, dns.TypeSOA, dns.TypeMX, dns.TypeCNAME, dns.TypePTR, dns.TypeSRV, dns.TypeDNAME:
		if low, err := dns.NewRR(strings.ToLower(rr.String())); err == nil && low != nil {
			return low
		}
	}
	return dns.Copy(rr)
}
