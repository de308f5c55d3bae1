package outcall

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// maxBody bounds what is read of an answer, in octets.
const maxBody = 64 << 20

// maxWords bounds what is repeated of the other side's words, in octets.
const maxWords = 300

// Call is one request as the logbook keeps it. It holds no secret.
type Call struct {
	Account string
	Method  string
	Path    string
	Status  int // 0 where no answer came
	Took    time.Duration
	Problem string // empty where it went well
}

// Exchange is one request and its answer as they went over the wire, with every form of the credential taken out.
type Exchange struct {
	Method, Path string
	Sent, Got    map[string]string // headers
	Body, Answer string
	Status       int
	Took         time.Duration
	Problem      string // where there was no answer
}

// Client talks to one HTTP interface with one credential. It is safe for concurrent use.
type Client struct {
	HTTP    *http.Client
	Base    string // address of the interface, without a final slash
	Account string
	Header  string // that carries the credential
	Prefix  string // in front of it
	Secret  string
	Secrets []string            // further texts that must not be repeated to anybody, such as parts of the credential
	Hosts   map[string]string   // further addresses of the interface that the account names
	Slow    func(time.Duration) // is told for how long to leave the account alone; may be nil
	// Authorize puts the credential on a request with the given body in another way than in Header; may be nil. It gives
	// every form of the secret that must not be repeated to anybody.
	Authorize func(r *http.Request, body []byte) (secrets []string, err error)
	Trace     func(Exchange)                                                       // is shown every request and answer, without secrets; may be nil
	Dial      func(ctx context.Context, network, address string) (net.Conn, error) // for interfaces that are not HTTP
	Observe   func(context.Context, Call)                                          // is told of every request; may be nil

	forms []string // of the secret, besides itself
}

// Request is what to ask.
type Request struct {
	Method  string
	Path    string            // begins with a slash; parts that are not constant come through url.PathEscape; may have a query
	Query   url.Values        // may be nil
	JSON    any               // body as JSON; nil for none
	Text    string            // body as it is, where JSON is nil
	Type    string            // content type of the body, where it is not JSON and not text/dns
	Headers map[string]string // besides credential and content type
}

// Response is an answer with a status below 400.
type Response struct {
	Status int
	Header http.Header
	Body   []byte
}

// Do makes one request. Every failure is an *Error.
func (c *Client) Do(ctx context.Context, r Request) (Response, error) {
	start := time.Now()
	res, err := c.do(ctx, r)
	call := Call{Account: c.Account, Method: r.Method, Path: c.blank(r.Path), Status: res.Status, Took: time.Since(start)}
	if err != nil {
		call.Problem = err.Error()
	}
	if c.Observe != nil {
		c.Observe(ctx, call)
	}
	return res, err
}

// Read makes a request and decodes the JSON of its answer into into.
func (c *Client) Read(ctx context.Context, r Request, into any) (Response, error) {
	res, err := c.Do(ctx, r)
	if err != nil {
		return res, err
	}
	if err := json.Unmarshal(res.Body, into); err != nil {
		return res, c.fail(r, Refused, writeOutcome(r), "its answer is not the JSON expected: "+err.Error())
	}
	return res, nil
}

// Unreadable is the error for an answer whose names or records make no sense. Where only the time to read it was over, it may do the next time.
func (c *Client) Unreadable(asked string, err error) error {
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		return &Error{Kind: Unavailable, Outcome: Unclear, Account: c.Account, Asked: asked, Said: c.blank("the time was over before its answer was read: " + err.Error())}
	}
	return &Error{Kind: Refused, Outcome: Unclear, Account: c.Account, Asked: asked, Said: c.blank("its answer cannot be read: " + err.Error())}
}

func (c *Client) do(ctx context.Context, r Request) (out Response, err error) {
	body, contentType := []byte(r.Text), "text/dns"
	if r.JSON != nil {
		encoded, err := json.Marshal(r.JSON)
		if err != nil {
			return Response{}, c.fail(r, Refused, NotSent, err.Error())
		}
		body, contentType = encoded, "application/json"
	}
	if r.Type != "" {
		contentType = r.Type
	}
	address := c.Base + r.Path
	if len(r.Query) > 0 {
		address += "?" + r.Query.Encode()
	}
	connected := false
	trace := &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { connected = true }}
	req, err := http.NewRequestWithContext(httptrace.WithClientTrace(ctx, trace), r.Method, address, bytes.NewReader(body))
	if err != nil {
		return Response{}, c.fail(r, Refused, NotSent, err.Error())
	}
	if len(body) > 0 {
		req.Header.Set("Content-Type", contentType)
	}
	for k, v := range r.Headers {
		req.Header.Set(k, v)
	}
	if c.Authorize == nil {
		req.Header.Set(c.Header, c.Prefix+c.Secret)
	} else if secrets, err := c.Authorize(req, body); err != nil {
		return Response{}, c.fail(r, Refused, NotSent, err.Error())
	} else {
		c = c.knowing(secrets)
	}
	if c.Trace != nil {
		defer func(start time.Time) { c.trace(req, body, out, err, time.Since(start)) }(time.Now())
	}
	req.GetBody = nil // a request whose connection breaks is not sent again behind our back
	if err := TooLate(ctx); err != nil {
		return Response{}, err
	}
	res, err := c.HTTP.Do(req)
	if err != nil {
		outcome := NotSent
		if connected {
			outcome = writeOutcome(r)
		}
		return Response{}, c.fail(r, NotReached(err), outcome, plainReason(err))
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, maxBody))
	out = Response{res.StatusCode, res.Header, text}
	if err != nil {
		return out, c.fail(r, Unavailable, writeOutcome(r), "the answer broke off: "+plainReason(err))
	}
	if res.StatusCode >= 300 && res.StatusCode != http.StatusNotModified {
		return out, c.statusError(r, out)
	}
	return out, nil
}

// trace shows an exchange. The header that carries the credential is blanked whole.
func (c *Client) trace(req *http.Request, body []byte, res Response, err error, took time.Duration) {
	e := Exchange{Method: req.Method, Path: c.blank(req.URL.RequestURI()), Sent: map[string]string{}, Got: map[string]string{},
		Body: c.blank(string(body)), Answer: c.blank(string(res.Body)), Status: res.Status, Took: took}
	for name, values := range req.Header {
		e.Sent[name] = c.blank(strings.Join(values, ", "))
	}
	for _, name := range []string{"Authorization", "Proxy-Authorization", "Cookie", http.CanonicalHeaderKey(c.Header)} {
		if _, there := e.Sent[name]; there {
			e.Sent[name] = "…"
		}
	}
	for name, values := range res.Header {
		e.Got[name] = c.blank(strings.Join(values, ", "))
	}
	if err != nil && res.Status == 0 {
		e.Problem = err.Error()
	}
	c.Trace(e)
}

// writeOutcome is what an interrupted request leaves behind: reading changes nothing, writing may have.
func writeOutcome(r Request) Outcome {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return NotDone
	}
	return Unclear
}

// plainReason drops the address from transport errors: it is said already.
func plainReason(err error) string {
	if u, ok := err.(*url.Error); ok {
		if u.Timeout() {
			return "no answer in time"
		}
		err = u.Err
	}
	var name *net.DNSError
	if errors.As(err, &name) {
		return fmt.Sprintf("the name %s does not resolve", name.Name)
	}
	if errors.Is(err, syscall.ECONNREFUSED) {
		return "connection refused"
	}
	return err.Error()
}

func (c *Client) fail(r Request, kind Kind, outcome Outcome, said string) *Error {
	return &Error{Kind: kind, Outcome: outcome, Account: c.Account, Asked: c.blank(r.Method + " " + r.Path), Said: c.blank(said)}
}

// knowing returns the same client, which also keeps these forms of its secret to itself.
func (c *Client) knowing(secrets []string) *Client {
	with := *c
	with.forms = secrets
	return &with
}

// Blank removes the credential from a text.
func (c *Client) Blank(text string) string { return c.blank(text) }

// blank takes the credential out of a text, in each of its forms and spellings.
func (c *Client) blank(text string) string {
	for _, secret := range slices.Concat([]string{c.Secret}, c.Secrets, c.forms) {
		text = masked(text, secret)
	}
	return text
}

// maxBlanked is how much of an answer that is none is looked at, in octets: more than any spelling of a credential has behind what is shown.
const maxBlanked = 64 << 10

// statusError sorts answers that are none by their status (RFC 9110 section 15).
func (c *Client) statusError(r Request, res Response) *Error {
	e := c.fail(r, Refused, NotDone, fmt.Sprintf("%d %s", res.Status, http.StatusText(res.Status)))
	// Blanked first and cut then: a credential that lies across the cut would leave its beginning.
	words := c.blank(string(res.Body[:min(len(res.Body), maxBlanked)]))
	if words = strings.TrimSpace(strings.ToValidUTF8(words[:min(len(words), maxWords)], "")); words != "" {
		e.Said += ": " + words
	}
	switch {
	case res.Status == http.StatusUnauthorized || res.Status == http.StatusForbidden:
		e.Kind = Unauthorised
	case res.Status == http.StatusNotFound || res.Status == http.StatusGone:
		e.Kind = NotFound
	case res.Status == http.StatusConflict || res.Status == http.StatusPreconditionFailed:
		e.Kind = Conflict
	case res.Status == http.StatusTooManyRequests:
		e.Kind = Limited
		e.RetryAfter = retryAfter(res.Header)
	case res.Status >= 500:
		e.Kind, e.Outcome = Unavailable, writeOutcome(r)
		e.RetryAfter = retryAfter(res.Header)
	}
	return e
}

// retryAfter reads seconds or a date (RFC 9110 section 10.2.3), within an hour.
func retryAfter(h http.Header) time.Duration {
	value := h.Get("Retry-After")
	wait := time.Duration(0)
	if n, err := strconv.Atoi(value); err == nil {
		wait = time.Duration(n) * time.Second
	} else if at, err := http.ParseTime(value); err == nil {
		wait = time.Until(at)
	}
	return min(max(wait, 0), time.Hour)
}
