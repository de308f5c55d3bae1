package primary

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"hash"

	"github.com/miekg/dns"
)

// hmacKey signs messages (RFC 8945 section 5.2). Its text is the secret in Base64.
type hmacKey string

func (k hmacKey) Generate(msg []byte, t *dns.TSIG) ([]byte, error) {
	secret, err := base64.StdEncoding.DecodeString(string(k))
	if err != nil {
		return nil, errKey
	}
	make := map[string]func() hash.Hash{dns.HmacSHA224: sha256.New224, dns.HmacSHA256: sha256.New, dns.HmacSHA384: sha512.New384, dns.HmacSHA512: sha512.New}[dns.CanonicalName(t.Algorithm)]
	if make == nil {
		return nil, dns.ErrKeyAlg
	}
	mac := hmac.New(make, secret)
	mac.Write(msg)
	return mac.Sum(nil), nil
}

func (k hmacKey) Verify(msg []byte, t *dns.TSIG) error {
	want, err := k.Generate(msg, t)
	if err != nil {
		return err
	}
	got, err := hex.DecodeString(t.MAC)
	if err != nil || !hmac.Equal(want, got) {
		return dns.ErrSig
	}
	return nil
}
