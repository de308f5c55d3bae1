package profile

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// authorizer returns how the secret is put on a request.
func (d *caller) authorizer(secret string) func(*http.Request, []byte) ([]string, error) {
	c := d.profile.credential
	switch c.send {
	case "basic":
		return func(r *http.Request, _ []byte) ([]string, error) {
			user, password, _ := strings.Cut(secret, ":")
			r.SetBasicAuth(user, password)
			return []string{password, base64.StdEncoding.EncodeToString([]byte(secret))}, nil
		}
	case "query":
		return func(r *http.Request, _ []byte) ([]string, error) {
			q := r.URL.Query()
			q.Set(c.name, secret)
			r.URL.RawQuery = q.Encode()
			return []string{url.QueryEscape(secret)}, nil
		}
	case "signature":
		return func(r *http.Request, body []byte) ([]string, error) { return d.sign(r, body, secret) }
	}
	return func(r *http.Request, _ []byte) ([]string, error) {
		r.Header.Set(c.name, c.prefix+secret)
		return nil, nil
	}
}

// signed is what the expressions of a signature see. The key itself is never given to them.
type signed struct {
	Method    string `json:"method"`
	Path      string `json:"path"`
	Query     string `json:"query"`
	Date      string `json:"date"`
	BodyHash  string `json:"body_hash"` // of the body, in hexadecimal
	KeyID     string `json:"key_id"`    // what stands before the colon of the secret
	Signature string `json:"signature"` // in hexadecimal
	Base64    string `json:"signature_base64"`
}

// sign puts an HMAC (RFC 2104) of what the profile says on a request. The secret is written ID:KEY.
func (d *caller) sign(r *http.Request, body []byte, secret string) ([]string, error) {
	c := d.profile.credential
	id, key, ok := strings.Cut(secret, ":")
	if !ok || key == "" {
		return []string{secret}, fmt.Errorf("the credential is written ID:KEY for this interface")
	}
	secrets := []string{key}
	newHash := map[string]func() hash.Hash{"sha256": sha256.New, "sha512": sha512.New}[c.hash]
	digest := newHash()
	digest.Write(body)
	s := signed{Method: r.Method, Path: r.URL.EscapedPath(), Query: r.URL.RawQuery, Date: time.Now().UTC().Format(time.RFC3339),
		BodyHash: hex.EncodeToString(digest.Sum(nil)), KeyID: id}
	over, err := d.text(r.Context(), c.over, s)
	if err != nil {
		return secrets, fmt.Errorf("credential.over: %w", err)
	}
	mac := hmac.New(newHash, []byte(key))
	mac.Write([]byte(over))
	sum := mac.Sum(nil)
	s.Signature, s.Base64 = hex.EncodeToString(sum), base64.StdEncoding.EncodeToString(sum)
	value, err := d.text(r.Context(), c.value, s)
	if err != nil {
		return secrets, fmt.Errorf("credential.value: %w", err)
	}
	if c.date != "" {
		r.Header.Set(c.date, s.Date)
	}
	r.Header.Set(c.name, value)
	return secrets, nil
}

// text evaluates an expression whose one result is a text.
func (d *caller) text(ctx context.Context, e expression, input any) (string, error) {
	results, err := d.pool.Run(ctx, string(e), input, variables, []any{nil, nil, nil})
	if err != nil {
		return "", err
	}
	if len(results) != 1 {
		return "", fmt.Errorf("it returns %d results, not one", len(results))
	}
	var w word
	err = json.Unmarshal(results[0], &w)
	return string(w), err
}
