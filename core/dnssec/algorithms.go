package dnssec

import (
	"encoding/base64"
	"fmt"

	"github.com/miekg/dns"
)

// Algorithm names a signing algorithm (the registry of DNSSEC algorithm numbers).
func Algorithm(number uint8) string {
	if name, ok := dns.AlgorithmToString[number]; ok {
		return fmt.Sprintf("%s (%d)", name, number)
	}
	return fmt.Sprintf("number %d", number)
}

// Digest names a DS digest type.
func Digest(number uint8) string {
	if name, ok := dns.HashToString[number]; ok {
		return fmt.Sprintf("%s (%d)", name, number)
	}
	return fmt.Sprintf("number %d", number)
}

// Verifiable reports whether validators verify an algorithm today (RFC 8624 section 3.1).
func Verifiable(algorithm uint8) bool {
	switch algorithm {
	case dns.RSASHA1, dns.RSASHA1NSEC3SHA1, dns.RSASHA256, dns.RSASHA512, dns.ECDSAP256SHA256, dns.ECDSAP384SHA384, dns.ED25519, dns.ED448:
		return true
	}
	return false
}

// DigestVerifiable reports whether validators verify a digest type today (RFC 8624 section 3.3).
func DigestVerifiable(digest uint8) bool {
	return digest == dns.SHA1 || digest == dns.SHA256 || digest == dns.SHA384
}

// Weakness returns why an algorithm should be left; empty for good ones (RFC 8624 section 3.1).
func Weakness(algorithm uint8) string {
	switch algorithm {
	case dns.RSAMD5, dns.DSA, dns.DSANSEC3SHA1, dns.ECCGOST:
		return "must not be used any more"
	case dns.RSASHA1, dns.RSASHA1NSEC3SHA1:
		return "rests on SHA-1, which must not be used for signing any more"
	}
	return ""
}

// Lengths of RSA keys, in bits: shorter than breakable ones were factored in public; shorter than strong ones are advised against
// (NIST SP 800-57 part 1, table 2).
const (
	breakableBits = 1024
	strongBits    = 2048
)

// KeyWeakness returns why a key is weak, and whether it is so weak that it can be broken; empty for good ones.
func KeyWeakness(k *dns.DNSKEY) (why string, broken bool) {
	switch k.Algorithm {
	case dns.RSASHA1, dns.RSASHA1NSEC3SHA1, dns.RSASHA256, dns.RSASHA512:
		switch bits := rsaBits(k.PublicKey); {
		case bits == 0 || bits >= strongBits:
		case bits < breakableBits:
			return fmt.Sprintf("has %d bits, which can be broken", bits), true
		default:
			return fmt.Sprintf("has %d bits; 2,048 are advised", bits), false
		}
	}
	return "", false
}

// rsaBits returns the length of an RSA modulus (RFC 3110 section 2).
func rsaBits(key string) int {
	b, err := base64.StdEncoding.DecodeString(key)
	if err != nil || len(b) < 4 {
		return 0
	}
	exponent, at := int(b[0]), 1
	if exponent == 0 {
		exponent, at = int(b[1])<<8|int(b[2]), 3
	}
	return max(0, len(b)-at-exponent) * 8
}
