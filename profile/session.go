package profile

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"beacon/outcall"
)

// session says how a token is had with the credential, which other requests then carry.
type session struct {
	open      *call
	token     expression
	cookie    string     // the token is this cookie, in place of token
	expires   expression // seconds from now, or a moment (RFC 3339)
	lasts     time.Duration
	uses      int   // after so many requests another one is needed; 0 for any number
	close     *call // gives the token back
	single    bool  // one request at a time
	sends     []send
	oauth     *oauth
	assertion *assertion
}

// oauth is the client credentials grant of OAuth 2.0 (RFC 6749 section 4.4).
type oauth struct {
	host       string // which of the account's further addresses
	path       string
	id, secret string // parts
	scopes     []string
	inHeader   bool // how the client authenticates (RFC 6749 section 2.3.1)
}

// assertion is a signed statement (RFC 7519, RFC 7523) that the request for a token carries.
type assertion struct {
	alg    string // RS256 or ES256
	key    string // part: a private key in PEM
	keyID  string // part; empty for none
	claims expression
	lasts  time.Duration
}

// tokenPart is what the token is called where a profile says how it travels.
const tokenPart = "token"

// live is the session of one account, which all of its requests share.
type live struct {
	lock  chan struct{} // held while a token is asked for
	turn  chan struct{} // held while a request is made, where only one may be
	token string
	until time.Time
	left  int
	end   func(ctx context.Context, token string) // gives a token back
	http  *http.Client                            // with the client certificate of the account; nil for none
}

// held is what one request carries.
type held struct {
	secrets secrets
	sends   []send
	token   string
	release func()
}

// hold returns what a request carries: the credential, or the token of the session, which is opened where there is none.
func (d *caller) hold(ctx context.Context, c *call) (held, error) {
	h := held{secrets: d.secrets, sends: d.profile.credential.sends, release: func() {}}
	if d.problem != nil {
		return h, d.credentialProblem(d.problem)
	}
	s := d.profile.session
	if s == nil || c.opens {
		return h, nil
	}
	if s.single {
		select {
		case d.live.turn <- struct{}{}:
			h.release = func() { <-d.live.turn }
		case <-ctx.Done():
			return h, &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "waiting for the session", Said: ctx.Err().Error()}
		}
	}
	token, err := d.tokenOf(ctx)
	if err != nil {
		h.release()
		h.release = func() {}
		return h, err
	}
	h.token, h.sends = token, s.sends
	h.secrets = secrets{tokenPart: token}
	for name, text := range d.secrets {
		h.secrets[name] = text
	}
	return h, nil
}

// soon is how long before its end a token is not used any more: a tenth of its time, at most this.
const soon = 30 * time.Second

// tokenOf returns the token of the session, and asks for one where there is none that lasts.
func (d *caller) tokenOf(ctx context.Context) (string, error) {
	select {
	case d.live.lock <- struct{}{}:
		defer func() { <-d.live.lock }()
	case <-ctx.Done():
		return "", &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "waiting for a token", Said: ctx.Err().Error()}
	}
	l := d.live
	s := d.profile.session
	if l.token != "" && (l.until.IsZero() || d.now().Before(l.until)) && (s.uses == 0 || l.left > 0) {
		l.left--
		return l.token, nil
	}
	if old := l.token; old != "" && l.end != nil {
		l.token = ""
		l.end(ctx, old)
	}
	token, lasts, err := d.openSession(ctx)
	if err != nil {
		var e *outcall.Error
		if errors.As(err, &e) && e.Outcome == outcall.Unclear {
			with := *e
			with.Outcome = outcall.NotDone // a session that nobody uses changes nothing
			return "", &with
		}
		return "", err
	}
	l.token, l.until, l.left = token, time.Time{}, s.uses-1
	if lasts > 0 {
		l.until = d.now().Add(lasts - min(lasts/10, soon))
	}
	return token, nil
}

// drop forgets a token that is not taken any more.
func (l *live) drop(token string) {
	l.lock <- struct{}{}
	if l.token == token {
		l.token = ""
	}
	<-l.lock
}

// openSession asks for a token, and how long it lasts; 0 where that is not said.
func (d *caller) openSession(ctx context.Context) (token string, lasts time.Duration, err error) {
	s := d.profile.session
	if s.oauth != nil {
		return d.grant(ctx, s.oauth)
	}
	var v vars
	if s.assertion != nil {
		text, err := d.assert(ctx, s.assertion)
		if err != nil {
			return "", 0, d.cannot("session.assertion: " + d.client.Blank(err.Error()))
		}
		quoted, err := json.Marshal(text)
		if err != nil {
			return "", 0, err
		}
		v = v.with("assertion", quoted)
	}
	a, err := d.once(ctx, s.open, question{}, v)
	if err != nil {
		return "", 0, err
	}
	if s.cookie != "" {
		res := http.Response{Header: http.Header{"Set-Cookie": a.cookies}}
		for _, c := range res.Cookies() {
			if c.Name == s.cookie {
				token = c.Value
				lasts = time.Duration(c.MaxAge) * time.Second
			}
		}
	} else if token, err = d.scalar(ctx, "session.token", s.token, a); err != nil {
		return "", 0, err
	}
	if token == "" {
		return "", 0, d.client.Unreadable(a.asked, errors.New("there is no token in it"))
	}
	text, err := d.scalar(ctx, "session.expires", s.expires, a)
	if err != nil {
		return "", 0, err
	}
	switch at, momentErr := time.Parse(time.RFC3339, text); {
	case text == "" && lasts == 0:
		lasts = s.lasts
	case text != "" && momentErr == nil:
		lasts = at.Sub(d.now())
	case text != "":
		seconds, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return "", 0, d.client.Unreadable(a.asked, fmt.Errorf("session.expires: %q is no number of seconds and no moment", text))
		}
		lasts = time.Duration(seconds * float64(time.Second))
	}
	return token, lasts, nil
}

// withoutToken returns a trace that does not show an answer that holds a token.
func withoutToken(trace func(outcall.Exchange)) func(outcall.Exchange) {
	if trace == nil {
		return nil
	}
	return func(e outcall.Exchange) {
		if e.Status > 0 && e.Status < 300 {
			e.Answer = "… (not shown: it holds the token)"
		}
		if e.Got["Set-Cookie"] != "" {
			e.Got["Set-Cookie"] = "…"
		}
		trace(e)
	}
}

// grant asks for a token by the client credentials grant.
func (d *caller) grant(ctx context.Context, o *oauth) (string, time.Duration, error) {
	client := *d.client
	client.Base = d.baseOf(o.host)
	client.Secrets = append(d.secrets.forms(), base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(d.secrets[o.id])+":"+url.QueryEscape(d.secrets[o.secret]))))
	client.Trace = withoutToken(client.Trace)
	client.Authorize = func(*http.Request, []byte) ([]string, error) { return nil, nil }
	trip := &tripper{client: &client}
	config := clientcredentials.Config{ClientID: d.secrets[o.id], ClientSecret: d.secrets[o.secret], TokenURL: client.Base + o.path, Scopes: o.scopes, AuthStyle: oauth2.AuthStyleInParams}
	if o.inHeader {
		config.AuthStyle = oauth2.AuthStyleInHeader
	}
	t, err := config.Token(context.WithValue(ctx, oauth2.HTTPClient, &http.Client{Transport: trip}))
	switch {
	case trip.failed != nil:
		return "", 0, trip.failed
	case err != nil:
		return "", 0, d.client.Unreadable("POST "+o.path, errors.New(client.Blank(err.Error())))
	}
	if t.Expiry.IsZero() {
		return t.AccessToken, 0, nil
	}
	return t.AccessToken, time.Until(t.Expiry), nil
}

// assert makes and signs an assertion. The key is not given to the expression of the claims.
func (d *caller) assert(ctx context.Context, a *assertion) (string, error) {
	at := d.now()
	open := map[string]string{}
	for name, text := range d.secrets {
		if name != a.key {
			open[name] = text
		}
	}
	claims, err := d.one(ctx, a.claims, map[string]any{"now": at.Unix(), "expires": at.Add(a.lasts).Unix(), "parts": open, "address": d.baseOf(d.profile.session.open.host)}, vars{})
	if err != nil {
		return "", err
	}
	header := map[string]string{"alg": a.alg, "typ": "JWT"}
	if a.keyID != "" {
		header["kid"] = d.secrets[a.keyID]
	}
	head, err := json.Marshal(header)
	if err != nil {
		return "", err
	}
	return signJWS(a.alg, d.secrets[a.key], head, claims)
}

// signJWS signs a header and a payload in the compact form (RFC 7515 section 3.1), with RS256 or ES256 (RFC 7518 sections 3.3 and 3.4).
func signJWS(alg, key string, header, payload []byte) (string, error) {
	private, err := readPrivateKey(key)
	if err != nil {
		return "", err
	}
	encode := base64.RawURLEncoding.EncodeToString
	over := encode(header) + "." + encode(payload)
	digest := sha256.Sum256([]byte(over))
	var signature []byte
	switch k := private.(type) {
	case *rsa.PrivateKey:
		if alg != "RS256" {
			return "", fmt.Errorf("the key is one of RSA, and the algorithm is %s", alg)
		}
		signature, err = rsa.SignPKCS1v15(nil, k, crypto.SHA256, digest[:])
	case *ecdsa.PrivateKey:
		if alg != "ES256" || k.Curve.Params().BitSize != 256 {
			return "", fmt.Errorf("the key is one of curve %s, and the algorithm is %s", k.Curve.Params().Name, alg)
		}
		r, s, signErr := ecdsa.Sign(rand.Reader, k, digest[:])
		if err = signErr; err == nil {
			signature = append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
		}
	default:
		err = errors.New("the key is neither one of RSA nor of an elliptic curve")
	}
	if err != nil {
		return "", err
	}
	return over + "." + encode(signature), nil
}

// readPrivateKey reads a private key in PEM: PKCS 8 (RFC 5958), PKCS 1 (RFC 8017) or SEC 1 (RFC 5915). Its errors hold nothing of the key.
func readPrivateKey(text string) (any, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("the private key is not in PEM form")
	}
	if k, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
		return k, nil
	}
	if k, err := x509.ParsePKCS1PrivateKey(block.Bytes); err == nil {
		return k, nil
	}
	if k, err := x509.ParseECPrivateKey(block.Bytes); err == nil {
		return k, nil
	}
	return nil, fmt.Errorf("a private key of the kind %q is not read", block.Type)
}
