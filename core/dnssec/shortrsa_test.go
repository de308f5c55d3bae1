package dnssec

import (
	"crypto/rand"
	"encoding/base64"
	"math/big"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shortKey makes an RSA key of a length that the standard library refuses to make.
func shortKey(t *testing.T, bits int, algorithm uint8) (k *dns.DNSKEY, n, d *big.Int) {
	t.Helper()
	e := big.NewInt(65537)
	for {
		p, err := rand.Prime(rand.Reader, bits/2)
		require.NoError(t, err)
		q, err := rand.Prime(rand.Reader, bits-bits/2)
		require.NoError(t, err)
		one := big.NewInt(1)
		n = new(big.Int).Mul(p, q)
		if d = new(big.Int).ModInverse(e, new(big.Int).Mul(new(big.Int).Sub(p, one), new(big.Int).Sub(q, one))); d != nil && n.BitLen() == bits {
			break
		}
	}
	key := append([]byte{3, 1, 0, 1}, n.Bytes()...)
	return &dns.DNSKEY{Hdr: dns.RR_Header{Name: "a.example.", Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET}, Flags: 256, Protocol: 3, Algorithm: algorithm,
		PublicKey: base64.StdEncoding.EncodeToString(key)}, n, d
}

// Signatures by short RSA keys are verified as validators do; one octet that is wrong anywhere is found.
func TestShortRSA(t *testing.T) {
	rr, err := dns.NewRR("www.a.example. 60 A 192.0.2.1")
	require.NoError(t, err)
	for _, c := range []struct {
		bits      int
		algorithm uint8
	}{{512, dns.RSASHA1}, {512, dns.RSASHA256}, {768, dns.RSASHA512}, {1000, dns.RSASHA256}} {
		k, n, d := shortKey(t, c.bits, c.algorithm)
		require.True(t, isShortRSA(k), "%d bits", c.bits)
		now := time.Now()
		sig := &dns.RRSIG{Hdr: dns.RR_Header{Name: "www.a.example.", Rrtype: dns.TypeRRSIG, Class: dns.ClassINET, Ttl: 60}, TypeCovered: dns.TypeA, Algorithm: c.algorithm, Labels: 3,
			OrigTtl: 60, Inception: uint32(now.Add(-time.Hour).Unix()), Expiration: uint32(now.Add(time.Hour).Unix()), KeyTag: k.KeyTag(), SignerName: "a.example."}
		octets, err := signedOctets([]dns.RR{rr}, sig)
		require.NoError(t, err)
		size := (n.BitLen() + 7) / 8
		text := append(append([]byte{}, digestInfo[c.algorithm]...), digestOf(c.algorithm, octets)...)
		encoded := make([]byte, size)
		encoded[1] = 1
		for i := 2; i < size-len(text)-1; i++ {
			encoded[i] = 0xff
		}
		copy(encoded[size-len(text):], text)
		signature := new(big.Int).Exp(new(big.Int).SetBytes(encoded), d, n).FillBytes(make([]byte, size))
		sig.Signature = base64.StdEncoding.EncodeToString(signature)
		assert.NoError(t, verifyOne([]dns.RR{rr}, sig, k), "%d bits", c.bits)
		other := dns.Copy(rr)
		other.(*dns.A).A[3]++
		assert.Error(t, verifyOne([]dns.RR{other}, sig, k))
		for _, at := range []int{0, size / 2, size - 1} {
			wrong := append([]byte{}, signature...)
			wrong[at] ^= 1
			bad := *sig
			bad.Signature = base64.StdEncoding.EncodeToString(wrong)
			assert.Error(t, verifyOne([]dns.RR{rr}, &bad, k))
		}
	}
	for _, key := range []string{"", "AA==", "AwEAAQ==", base64.StdEncoding.EncodeToString(append([]byte{0, 0, 60}, make([]byte, 120)...))} {
		assert.NotPanics(t, func() {
			_ = verifyOne(nil, &dns.RRSIG{Algorithm: dns.RSASHA256}, &dns.DNSKEY{Algorithm: dns.RSASHA256, PublicKey: key})
		}, key)
	}
}
