package profile

import (
	"context"
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// signing says how a request is signed with an HMAC (RFC 2104).
type signing struct {
	hash   string       // sha1, sha256 or sha512
	over   expression   // what is signed
	value  expression   // what the header or parameter then says
	date   string       // header with the time of the request
	form   string       // of that time: iso, basic, http or unix
	id     string       // part that names the key; what is before the colon of the credential where it is empty
	derive []expression // a key is made from the key in steps, each an HMAC of one of these texts
	start  string       // in front of the key, where it is made in steps
	query  bool         // the signature is a parameter of the address
}

var hashes = map[string]func() hash.Hash{"sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New}

// signed is what the expressions of a signature see. The key itself is never given to them.
type signed struct {
	Method     string            `json:"method"`
	Host       string            `json:"host"`
	Path       string            `json:"path"`
	Query      string            `json:"query"`        // as it is sent
	QueryInOrd string            `json:"query_sorted"` // by name, then value, each escaped (RFC 3986 section 2.1)
	Headers    map[string]string `json:"headers"`      // that are sent, by their names in lower case
	Date       string            `json:"date"`         // in the form that the profile asks for
	Dates      map[string]string `json:"dates"`        // the same moment in every form
	Body       string            `json:"body"`
	BodyHash   string            `json:"body_hash"` // of the body, in hexadecimal
	BodyBase64 string            `json:"body_hash_base64"`
	KeyID      string            `json:"key_id"`
	Signature  string            `json:"signature"` // in hexadecimal
	Base64     string            `json:"signature_base64"`
}

// datesOf writes a moment in the forms that interfaces use.
func datesOf(at time.Time) map[string]string {
	at = at.UTC()
	return map[string]string{"iso": at.Format(time.RFC3339), "basic": at.Format("20060102T150405Z"), "day": at.Format("20060102"),
		"http": at.Format(http.TimeFormat), "unix": fmt.Sprint(at.Unix())}
}

// sign puts an HMAC of what the profile says on a request.
func (d *caller) sign(r *http.Request, body []byte, s secrets, way send) error {
	c := way.sign
	id, key := s[c.id], s[way.part]
	if c.id == "" {
		var ok bool
		if id, key, ok = strings.Cut(s[way.part], ":"); !ok || key == "" {
			return errors.New("the credential is written ID:KEY for this interface")
		}
	}
	newHash := hashes[c.hash]
	digest := newHash()
	digest.Write(body)
	sum := digest.Sum(nil)
	at := d.now()
	in := signed{Method: r.Method, Host: r.URL.Host, Path: r.URL.EscapedPath(), Query: r.URL.RawQuery, QueryInOrd: sortedQuery(r.URL.Query()), Headers: map[string]string{"host": r.URL.Host},
		Dates: datesOf(at), Body: string(body), BodyHash: hex.EncodeToString(sum), BodyBase64: base64.StdEncoding.EncodeToString(sum), KeyID: id}
	if in.Date = in.Dates[c.form]; c.date != "" {
		r.Header.Set(c.date, in.Date)
	}
	for name, values := range r.Header {
		in.Headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	ctx := r.Context()
	mac := func(key []byte, text string) []byte {
		m := hmac.New(newHash, key)
		m.Write([]byte(text))
		return m.Sum(nil)
	}
	signing := []byte(key)
	if len(c.derive) > 0 {
		signing = []byte(c.start + key)
	}
	for i, e := range c.derive {
		text, err := d.text(ctx, e, in, vars{})
		if err != nil {
			return fmt.Errorf("credential.derive, step %d: %w", i+1, err)
		}
		signing = mac(signing, text)
	}
	over, err := d.text(ctx, c.over, in, vars{})
	if err != nil {
		return fmt.Errorf("credential.over: %w", err)
	}
	made := mac(signing, over)
	in.Signature, in.Base64 = hex.EncodeToString(made), base64.StdEncoding.EncodeToString(made)
	value, err := d.text(ctx, c.value, in, vars{})
	if err != nil {
		return fmt.Errorf("credential.value: %w", err)
	}
	if c.query {
		q := r.URL.Query()
		q.Set(way.name, value)
		r.URL.RawQuery = q.Encode()
		return nil
	}
	r.Header.Set(way.name, value)
	return nil
}

// sortedQuery writes parameters by name, then value, with a space as %20.
func sortedQuery(q url.Values) string {
	escape := func(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "+", "%20") }
	var list []string
	for name, values := range q {
		for _, v := range values {
			list = append(list, escape(name)+"="+escape(v))
		}
	}
	slices.Sort(list)
	return strings.Join(list, "&")
}

// text evaluates an expression whose one result is a text.
func (d *caller) text(ctx context.Context, e expression, input any, taken vars) (string, error) {
	names, values := taken.list()
	results, err := d.pool().Run(ctx, string(e), input, names, values)
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
