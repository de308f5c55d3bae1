package dnssec

import (
	"bytes"
	"crypto/sha1" // signatures over it have to be verified, and are found weak elsewhere
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"math/big"

	"github.com/miekg/dns"
)

// Lengths of RSA keys that are verified here, in bits: the standard library refuses keys below 1,024, but signatures by them are valid (RFC 5702 section 2
// allows 512 on), and answers that validators accept must not be found bogus.
const (
	leastRSABits = 512
	shortRSABits = 1024
)

// digestInfo is what stands before the digest in a signature (RFC 8017 section 9.2, note 1).
var digestInfo = map[uint8][]byte{
	dns.RSASHA1:          {0x30, 0x21, 0x30, 0x09, 0x06, 0x05, 0x2b, 0x0e, 0x03, 0x02, 0x1a, 0x05, 0x00, 0x04, 0x14},
	dns.RSASHA1NSEC3SHA1: {0x30, 0x21, 0x30, 0x09, 0x06, 0x05, 0x2b, 0x0e, 0x03, 0x02, 0x1a, 0x05, 0x00, 0x04, 0x14},
	dns.RSASHA256:        {0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20},
	dns.RSASHA512:        {0x30, 0x51, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x03, 0x05, 0x00, 0x04, 0x40},
}

// isShortRSA reports whether a key is an RSA key that the standard library does not take.
func isShortRSA(k *dns.DNSKEY) bool {
	bits := rsaBits(k.PublicKey)
	return digestInfo[k.Algorithm] != nil && bits >= leastRSABits && bits < shortRSABits
}

// verifyShortRSA verifies a signature by a short key (RFC 8017 section 8.2.2). Nothing in it is secret.
func verifyShortRSA(set []dns.RR, sig *dns.RRSIG, k *dns.DNSKEY) error {
	fits := errors.New("the signature does not fit")
	key, err := base64.StdEncoding.DecodeString(k.PublicKey)
	if err != nil {
		return err
	}
	signature, err := base64.StdEncoding.DecodeString(sig.Signature)
	if err != nil {
		return err
	}
	exponent, at := int(key[0]), 1
	if exponent == 0 {
		exponent, at = int(key[1])<<8|int(key[2]), 3
	}
	if exponent < 1 || exponent > 8 {
		return errors.New("the key's exponent is too large")
	}
	e, n := new(big.Int).SetBytes(key[at:at+exponent]), new(big.Int).SetBytes(key[at+exponent:])
	s := new(big.Int).SetBytes(signature)
	size := (n.BitLen() + 7) / 8
	if n.Bit(0) == 0 || len(signature) != size || s.Cmp(n) >= 0 { // an even modulus is none, and would be slow
		return fits
	}
	octets, err := signedOctets(set, sig)
	if err != nil {
		return err
	}
	text := append(bytes.Clone(digestInfo[k.Algorithm]), digestOf(k.Algorithm, octets)...)
	if size < len(text)+11 {
		return fits
	}
	want := append([]byte{0, 1}, bytes.Repeat([]byte{0xff}, size-len(text)-3)...)
	want = append(append(want, 0), text...)
	if !bytes.Equal(new(big.Int).Exp(s, e, n).FillBytes(make([]byte, size)), want) {
		return fits
	}
	return nil
}

func digestOf(algorithm uint8, octets []byte) []byte {
	switch algorithm {
	case dns.RSASHA256:
		sum := sha256.Sum256(octets)
		return sum[:]
	case dns.RSASHA512:
		sum := sha512.Sum512(octets)
		return sum[:]
	}
	sum := sha1.Sum(octets)
	return sum[:]
}
