package primary

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"hash"

	"github.com/miekg/dns"
)

// hmacKey signs messages (RFC 8945 section 5.2).
type hmacKey struct {
	secret    string // in Base64
	algorithm string // the only one that it is for; empty for any of SHA-2
}

// hashes are those of the algorithms that there are. SHA-1 is for keys only that name it.
var hashes = map[string]func() hash.Hash{dns.HmacSHA1: sha1.New, dns.HmacSHA224: sha256.New224, dns.HmacSHA256: sha256.New, dns.HmacSHA384: sha512.New384, dns.HmacSHA512: sha512.New}

func (k hmacKey) Generate(msg []byte, t *dns.TSIG) ([]byte, error) {
	secret, err := base64.StdEncoding.DecodeString(k.secret)
	if err != nil {
		return nil, errKey
	}
	algorithm := dns.CanonicalName(t.Algorithm)
	if k.algorithm == "" && algorithm == dns.HmacSHA1 || k.algorithm != "" && algorithm != k.algorithm || hashes[algorithm] == nil {
		return nil, dns.ErrKeyAlg
	}
	mac := hmac.New(hashes[algorithm], secret)
	mac.Write(msg)
	return mac.Sum(nil), nil
}

func (k hmacKey) Verify(msg []byte, t *dns.TSIG) error {
	want, err := k.Generate(msg, t)
	if err != nil {
		return err
	}
	got, err := hex.DecodeString(t.MAC)
	switch {
	case err != nil:
		return dns.ErrSig
	case len(got) < len(want) && len(got) >= max(10, len(want)/2) && hmac.Equal(want[:len(got)], got):
		return errTruncated
	case !hmac.Equal(want, got):
		return dns.ErrSig
	}
	return nil
}
