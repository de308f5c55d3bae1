package profile

import (
	"context"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/yosida95/uritemplate/v3"

	"beacon/outcall"
	"beacon/profile/jq/jqtest"
)

func number(t *testing.T, text string) *big.Int {
	t.Helper()
	octets, err := base64.RawURLEncoding.DecodeString(text)
	require.NoError(t, err)
	return new(big.Int).SetBytes(octets)
}

// The signature of RFC 7515 appendix A.2, with the key, the header and the payload that it prints.
func TestAssertionVector(t *testing.T) {
	key := &rsa.PrivateKey{PublicKey: rsa.PublicKey{E: 65537, N: number(t, "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS-pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2CapHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9gb54h4FRWyuXpoQ")},
		D: number(t, "Eq5xpGnNCivDflJsRQBXHx1hdR1k6Ulwe2JZD50LpXyWPEAeP88vLNO97IjlA7_GQ5sLKMgvfTeXZx9SE-7YwVol2NXOoAJe46sui395IW_GO-pWJ1O0BkTGoVEn2bKVRUCgu-GjBVaYLU6f3l9kJfFNS3E0QbVdxzubSu3Mkqzjkn439X0M_V51gfpRLI9JYanrC4D4qAdGcopV_0ZHHzQlBjudU2QvXt4ehNYTCBr6XCLQUShb1juUO1ZdiYoFaFQT5Tw8bGUl_x_jTj3ccPDVZFD9pIuhLhBOneufuBiB4cS98l2SR_RQyGWSeWjnczT0QU91p1DhOVRuOopznQ"),
		Primes: []*big.Int{number(t, "4BzEEOtIpmVdVEZNCqS7baC4crd0pqnRH_5IB3jw3bcxGn6QLvnEtfdUdiYrqBdss1l58BQ3KhooKeQTa9AB0Hw_Py5PJdTJNPY8cQn7ouZ2KKDcmnPGBY5t7yLc1QlQ5xHdwW1VhvKn-nXqhJTBgIPgtldC-KDV5z-y2XDwGUc"),
			number(t, "uQPEfgmVtjL0Uyyx88GZFF1fOunH3-7cepKmtH4pxhtCoHqpWmT8YAmZxaewHgHAjLYsp1ZSe7zFYHj7C6ul7TjeLQeZD_YwD66t62wDmpe_HlB-TnBA-njbglfIsRLtXlnDzQkv5dTltRJ11BKBBypeeF6689rjcJIDEz9RWdc")}}
	key.Precompute()
	require.NoError(t, key.Validate())
	text := string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(key)}))
	header := []byte(`{"alg":"RS256"}`)
	payload := []byte("{\"iss\":\"joe\",\r\n \"exp\":1300819380,\r\n \"http://example.com/is_root\":true}")
	got, err := signJWS("RS256", text, header, payload)
	require.NoError(t, err)
	assert.Equal(t, "eyJhbGciOiJSUzI1NiJ9.eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ."+
		"cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9uJdbF9CUAr7t1dnZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB_eSN9383LcOLn6_dO--xi12jzDwusC-eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rqVt5AXLIhWkWywlVmtVrBp0igcN_IoypGlUPQGe77Rw", got)
	_, err = signJWS("ES256", text, header, payload)
	assert.ErrorContains(t, err, "the key is one of RSA")
	_, err = signJWS("RS256", "no key", header, payload)
	assert.ErrorContains(t, err, "PEM")
}

// HMAC by RFC 4231 section 4.3 (test case 2) through a profile, alone and in steps: each step is keyed with the outcome of the one before.
func TestSignatureVectors(t *testing.T) {
	const at = "2030-03-01T12:00:00Z"
	for _, c := range []struct{ name, send, want string }{
		{"sha256", `hash: sha256, over: '"what do ya want for nothing?"', value: .signature`, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"},
		{"sha512", `hash: sha512, over: '"what do ya want for nothing?"', value: .signature`, "164b7a7bfcf819e2e395fbe73b56e0a387bd64222e831fd610270cd7ea2505549758bf75c05a994a6d034f65f8f0e6fdcaeab1a34d4a6b4b636e070a38bce737"},
		{"base64", `hash: sha256, over: '"what do ya want for nothing?"', value: .signature_base64`, "W9zBRr9gdU5qBCQmCJV1x1oAPwidJzmDnexYuWTsOEM="},
		{"in steps", `hash: sha256, key_prefix: J, derive: ['.dates.day', '"dns"'], over: '.method', value: .signature`,
			hexOf(mac256(mac256(mac256([]byte("JJefe"), "20300301"), "dns"), "GET"))},
		{"dates", `hash: sha256, date: X-Date, date_form: basic, over: '.headers["x-date"]', value: '.date + " " + .dates.http + " " + .dates.unix'`, "20300301T120000Z Fri, 01 Mar 2030 12:00:00 GMT 1898596800"},
		{"a query in order", `hash: sha256, over: '"x"', value: .query_sorted`, "a=1&a=b%20c&z=%2F"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, faults := Load("v", []byte("profile: v\ncredential: {send: signature, name: X-Signature, "+c.send+"}\ncan: {write: records, batch: 1, targets: absolute}\n"+
				"zones: {request: GET /zones, each: '.[]'}\nread: {request: 'GET /z/{id}', each: '.[]'}\nwrite: {request: 'POST /z/{id}', body: .}\n"))
			require.Empty(t, faults)
			moment, err := time.Parse(time.RFC3339, at)
			require.NoError(t, err)
			runtime := NewRuntime(jqtest.Pool(t))
			runtime.Now = func() time.Time { return moment }
			d := New(p, runtime, outcall.Client{HTTP: http.DefaultClient, Base: "http://127.0.0.1:1", Secret: "harbour:Jefe"})
			r, err := http.NewRequestWithContext(context.Background(), http.MethodGet, "http://127.0.0.1:1/zones?z=%2F&a=1&a=b+c", nil)
			require.NoError(t, err)
			require.NoError(t, d.authorize(r, nil, d.secrets, p.credential.sends))
			assert.Equal(t, c.want, r.Header.Get("X-Signature"))
		})
	}
}

func mac256(key []byte, text string) []byte {
	m := hmac.New(sha256.New, key)
	m.Write([]byte(text))
	return m.Sum(nil)
}

func hexOf(b []byte) string { return hex.EncodeToString(b) }

// What is written as XML is read as the same, and what is no XML is an error.
func TestXML(t *testing.T) {
	for _, text := range []string{
		`{"zone":{"name":"a.example"}}`,
		`{"changes":{"put":[{"@name":"a","data":["1","2"]},{"@name":"b","data":"<&>\"'"}],"empty":null}}`,
		`{"a":{"#text":"words","@id":"7"}}`,
		`{"a":"plain"}`,
	} {
		var v any
		require.NoError(t, json.Unmarshal([]byte(text), &v))
		written, _, err := encode("xml", v)
		require.NoError(t, err)
		read, err := decode("", "text/xml; charset=utf-8", []byte(written))
		require.NoError(t, err, written)
		again, err := json.Marshal(read)
		require.NoError(t, err)
		assert.JSONEq(t, text, string(again), written)
	}
	var ordered any
	require.NoError(t, json.Unmarshal([]byte(`{"u":{"#list":[{"zone":"z"},{"add":"b"},{"add":"a"},{"b":{"@q":"1"}}]}}`), &ordered))
	written, _, err := encode("xml", ordered)
	require.NoError(t, err)
	assert.Contains(t, written, `<u><zone>z</zone><add>b</add><add>a</add><b q="1"></b></u>`)
	for _, bad := range []string{"<a>", "<a></b>", "no", "<a>&outside;</a>", strings.Repeat("<a>", 100), `<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`} {
		_, err := decode("xml", "", []byte(bad))
		assert.Error(t, err, bad)
	}
	for _, bad := range []string{`{"a":1,"b":2}`, `[]`, `{"a b":1}`, `{"a":{"@":"x"}}`, `{"a":{"#list":[1]}}`} {
		var v any
		require.NoError(t, json.Unmarshal([]byte(bad), &v))
		_, _, err := encode("xml", v)
		assert.Error(t, err, bad)
	}
	form, kind, err := encode("form", map[string]any{"a": []any{"1", "2"}, "b": nil, "c": true})
	require.NoError(t, err)
	assert.Equal(t, "a=1&a=2&b=&c=true", form)
	read, err := decode("", kind, []byte(form))
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"a": []string{"1", "2"}, "b": "", "c": "true"}, read)
}

// Whatever form a part of a credential takes, a text does not repeat it.
func TestSecretsStayInside(t *testing.T) {
	s := secrets{"user": "harbour desk", "password": `pa"ss<wörd&=/`, "id": "abc"}
	client := outcall.Client{Secrets: s.forms()}
	for _, form := range []string{`pa"ss<wörd&=/`, url.QueryEscape(`pa"ss<wörd&=/`), url.PathEscape(`pa"ss<wörd&=/`), escapeXML(`pa"ss<wörd&=/`), base64.StdEncoding.EncodeToString([]byte(`pa"ss<wörd&=/`)), "harbour+desk"} {
		assert.NotContains(t, client.Blank("before "+form+" after"), form)
	}
	assert.Contains(t, client.Blank("the alphabet begins with abc"), "abc", "what is short is no secret")
}

// Every attempt at one change has the same key, and every other change another one.
func TestKeyOfAChange(t *testing.T) {
	d := &caller{client: &outcall.Client{Account: "a", Base: "b"}}
	put, err := uritemplate.New("/zones/{id}")
	require.NoError(t, err)
	c := &call{method: "PUT", path: put}
	of := func(scope, contact, mark string) string {
		ctx, cancel := outcall.Sending(context.Background(), time.Minute, scope)
		defer cancel()
		return d.keyOf(ctx, c, question{body: writeShape{Contact: contact, Mark: mark}})
	}
	assert.Equal(t, of("sync 1", "x", "1"), of("sync 1", "x", "2"), "another read of the same")
	assert.NotEqual(t, of("sync 1", "x", ""), of("sync 2", "x", ""), "another sync")
	assert.NotEqual(t, of("sync 1", "x", ""), of("sync 1", "y", ""), "another change")
	assert.NotEqual(t, of("", "x", ""), of("", "x", ""), "who does not say what it is part of begins anew each time")
}
