package profile

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/yosida95/uritemplate/v3"

	"beacon/outcall"
	"beacon/provider"
)

// question is what requests are made from.
type question struct {
	zone    provider.ZoneRef
	cursor  string
	offset  int // items of the pages before
	mark    string
	receipt string
	names   map[string]string // of the one change, for interfaces with a request for each
	body    writeShape
}

// answer is what came back.
type answer struct {
	asked     string // method and path
	body      any    // JSON as it came or was read, or a text
	headers   map[string]string
	status    int
	zone      zoneShape
	unchanged bool
	cookies   []string
	cursor    string
	offset    int
	request   requestShape
	vars      vars     // that expressions on it can use
	more      []answer // of a request that was made for several things, those after the first
}

// spare leaves the account alone for a while where the answer says that no requests remain.
func (d *caller) spare(ctx context.Context, a answer) {
	if d.profile.remaining == "" || d.client.Slow == nil {
		return
	}
	// An answer that does not say so, as many do not, changes nothing.
	number := func(name string, e expression) (float64, bool) {
		text, err := d.scalar(ctx, name, e, a)
		n, numberErr := strconv.ParseFloat(text, 64)
		return n, err == nil && numberErr == nil
	}
	left, known := number("limits.remaining", d.profile.remaining)
	seconds, when := number("limits.reset", d.profile.reset)
	if known && when && left < 1 && seconds > 0 {
		d.client.Slow(min(time.Duration(seconds*float64(time.Second)), time.Hour))
	}
}

// requestShape is a request as expressions on its answer see it.
type requestShape struct {
	Method string `json:"method"`
	Path   string `json:"path"`
	Body   any    `json:"body"` // where it is JSON
}

// vars are values that expressions use as variables and addresses as names: taken from answers of earlier steps, or computed.
type vars struct {
	names  []string
	values []json.RawMessage
}

// with returns the same with one more; a later one of the same name counts.
func (v vars) with(name string, value json.RawMessage) vars {
	out := vars{names: make([]string, 0, len(v.names)+1), values: make([]json.RawMessage, 0, len(v.names)+1)}
	for i, n := range v.names {
		if n != name {
			out.names, out.values = append(out.names, n), append(out.values, v.values[i])
		}
	}
	out.names, out.values = append(out.names, name), append(out.values, value)
	return out
}

// texts returns the text that a variable holds, if it holds one.
func (v vars) texts(name string) (list []string) {
	for i, n := range v.names {
		var w word
		if n == name && json.Unmarshal(v.values[i], &w) == nil {
			list = append(list, string(w))
		}
	}
	return list
}

// list returns names and values of the variables of an expression. of are those of variables that mean something; the others are null.
func (v vars) list(of ...any) ([]string, []any) {
	names, values := slices.Clone(variables), make([]any, len(variables))
	copy(values, of)
	for i, n := range v.names {
		names, values = append(names, "$"+n), append(values, v.values[i])
	}
	return names, values
}

// expand sets the names that an address can use.
func (v vars) expand(values uritemplate.Values) {
	for i, n := range v.names {
		set := func(name string, text json.RawMessage) {
			var w word
			if json.Unmarshal(text, &w) == nil && w != "" {
				values.Set(name, uritemplate.String(string(w)))
			}
		}
		set(n, v.values[i])
		var fields map[string]json.RawMessage
		if json.Unmarshal(v.values[i], &fields) == nil {
			for field, text := range fields {
				set(n+"."+field, text)
			}
		}
	}
}

// once makes one request and returns its answer; a failure is told as the profile says failures are told. Where a session is not known any more,
// another one is opened, and the request made once again.
func (d *caller) once(ctx context.Context, c *call, q question, v vars) (answer, error) {
	for again := true; ; again = false {
		held, err := d.hold(ctx, c)
		if err != nil {
			return answer{}, err
		}
		a, err := d.attempt(ctx, c, q, v, held)
		held.release()
		if err == nil || !again || held.token == "" || outcall.KindOf(err) != outcall.Unauthorised || outcall.OutcomeOf(err) == outcall.Unclear {
			return a, err
		}
		d.live.drop(held.token)
	}
}

func (d *caller) attempt(ctx context.Context, c *call, q question, v vars, h held) (answer, error) {
	r, v, err := d.request(ctx, c, q, v, h)
	if err != nil {
		return answer{}, err
	}
	sent := r.JSON // a body that the credential is in is not shown to expressions
	client := *d.client
	client.Base = d.baseOf(c.host)
	client.Secrets = h.secrets.forms()
	if c.opens {
		client.Secrets = append(client.Secrets, v.texts("assertion")...)
		client.Trace = withoutToken(client.Trace)
	}
	client.Authorize = func(r *http.Request, body []byte) ([]string, error) {
		return nil, d.authorize(r, body, h.secrets, h.sends)
	}
	res, err := client.Do(ctx, r)
	a := answer{asked: r.Method + " " + r.Path, status: res.Status, headers: map[string]string{}, zone: shapeZone(q.zone), unchanged: res.Status == http.StatusNotModified, vars: v}
	for name, values := range res.Header {
		a.headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	a.cookies, a.cursor, a.offset = res.Header["Set-Cookie"], cmp.Or(q.cursor, c.start), q.offset
	a.request = requestShape{r.Method, r.Path, sent}
	var unread error
	if a.body, unread = decode(c.answer, a.headers["content-type"], res.Body); unread != nil && err == nil {
		return a, d.client.Unreadable(a.asked, unread)
	}
	err = d.told(ctx, err, a)
	if err == nil {
		d.spare(ctx, a)
	}
	var e *outcall.Error
	if errors.As(err, &e) {
		e.Said = client.Blank(e.Said)
	}
	return a, err
}

// request fills in a call. It returns the variables with those that the call computes.
func (d *caller) request(ctx context.Context, c *call, q question, v vars, h held) (outcall.Request, vars, error) {
	r := outcall.Request{Method: c.method, Headers: map[string]string{"Accept": "application/json, */*;q=0.5"}}
	cursor := cmp.Or(q.cursor, c.start)
	if q.body.Mark == "" {
		q.body.Mark = q.mark
	}
	q.body.Zone, q.body.Cursor, q.body.Offset = shapeZone(q.zone), cursor, q.offset
	for _, l := range c.lets {
		value, err := d.one(ctx, l.value, q.body, v)
		if err != nil {
			return r, v, d.unmade(l.name, err)
		}
		v = v.with(l.name, value)
	}
	if c.link && q.cursor != "" {
		r.Path = q.cursor
	} else {
		path, err := d.path(c, q, cursor, v)
		if err != nil {
			return r, v, err
		}
		r.Path = path
	}
	for name, e := range c.headers {
		value, err := d.text(ctx, e, q.body, v)
		if err != nil {
			return r, v, d.unmade("the header "+name, err)
		}
		if value != "" {
			r.Headers[name] = value
		}
	}
	inBody := false
	for _, s := range h.sends {
		inBody = inBody || (s.in == "body" || s.in == "form") && (c.body != "" || c.method != http.MethodGet && c.method != http.MethodDelete)
	}
	if c.body == "" && !inBody {
		return r, v, nil
	}
	var body any
	if c.body != "" {
		text, err := d.one(ctx, c.body, q.body, v)
		if err != nil {
			return r, v, d.unmade("the body", err)
		}
		if c.media == "" && !inBody {
			r.JSON = text
			return r, v, nil
		}
		decoder := json.NewDecoder(strings.NewReader(string(text)))
		decoder.UseNumber()
		if err := decoder.Decode(&body); err != nil {
			return r, v, d.cannot(err.Error())
		}
	}
	var err error
	if inBody {
		body, err = h.secrets.place(h.sends, body)
	}
	if err == nil {
		r.Text, r.Type, err = encode(c.media, body)
	}
	if err != nil {
		return r, v, d.cannot(err.Error())
	}
	return r, v, nil
}

// one evaluates an expression that has one result.
func (d *caller) one(ctx context.Context, e expression, input any, v vars) (json.RawMessage, error) {
	names, values := v.list()
	results, err := d.pool().Run(ctx, string(e), input, names, values)
	if err == nil && len(results) != 1 {
		err = fmt.Errorf("it returns %d results, not one", len(results))
	}
	if err != nil {
		return nil, err
	}
	return results[0], nil
}

// path makes the address of a call.
func (d *caller) path(c *call, q question, cursor string, v vars) (string, error) {
	values := uritemplate.Values{}
	set := func(name, value string) {
		if value != "" {
			values.Set(name, uritemplate.String(value))
		}
	}
	set("cursor", cursor)
	set("offset", strconv.Itoa(q.offset))
	set("receipt", q.receipt)
	set("id", q.zone.ID)
	if !q.zone.Name.IsZero() {
		set("zone", plain(q.zone.Name))
		set("fqdn", q.zone.Name.String())
		set("domain", plain(q.zone.Name))
	}
	for name, value := range q.names {
		set(name, value)
	}
	v.expand(values)
	path, err := c.path.Expand(values)
	if err != nil {
		return "", d.cannot("the address cannot be made: " + err.Error())
	}
	return path, nil
}

// told turns a failure into what the profile makes of it, and an answer that only looks well into a failure.
func (d *caller) told(ctx context.Context, err error, a answer) error {
	rules := d.profile.errors
	var e *outcall.Error
	if err != nil && (!errors.As(err, &e) || a.status == 0) {
		return err
	}
	if e == nil {
		if rules.when == "" {
			return nil
		}
		bad, err := d.scalar(ctx, "errors.when", rules.when, a)
		if err != nil {
			return err
		}
		if bad == "" || bad == "false" {
			return nil
		}
		e = &outcall.Error{Kind: outcall.Refused, Outcome: outcall.NotDone, Account: d.client.Account, Asked: a.asked}
	}
	// Whatever the answer holds is a failure already: expressions that cannot make sense of it leave it as it is.
	if code, err := d.scalar(ctx, "errors.code", rules.code, a); err == nil && rules.kinds[code] != "" {
		e.Kind = rules.kinds[code]
	}
	if message, err := d.scalar(ctx, "errors.message", rules.message, a); err == nil && message != "" {
		e.Said = d.client.Blank(message)
		if a.status >= 300 {
			e.Said = fmt.Sprintf("%d: %s", a.status, e.Said)
		}
	}
	if e.Kind == outcall.Limited {
		e.Outcome = outcall.NotDone
		if text, err := d.scalar(ctx, "limits.wait", d.profile.wait, a); err == nil && text != "" {
			if seconds, err := strconv.ParseFloat(text, 64); err == nil && seconds > 0 {
				e.RetryAfter = min(time.Duration(seconds*float64(time.Second)), time.Hour)
			}
		}
	}
	return e
}

// results evaluates an expression on an answer, and on those that were given for more of the same.
func (d *caller) results(ctx context.Context, name string, e expression, a answer) ([]json.RawMessage, error) {
	if e == "" {
		return nil, nil
	}
	names, values := a.vars.list(a.status, a.headers, a.zone, a.cursor, a.offset, a.request)
	results, err := d.pool().Run(ctx, string(e), a.body, names, values)
	if err != nil {
		return nil, d.client.Unreadable(a.asked, fmt.Errorf("%s: %w", name, err))
	}
	for _, more := range a.more {
		rest, err := d.results(ctx, name, e, more)
		if err != nil {
			return nil, err
		}
		results = append(results, rest...)
	}
	return results, nil
}

// scalar evaluates an expression that returns one word, or none.
func (d *caller) scalar(ctx context.Context, name string, e expression, a answer) (string, error) {
	if len(a.more) > 0 {
		a = a.more[len(a.more)-1]
	}
	results, err := d.results(ctx, name, e, a)
	if err != nil || len(results) == 0 {
		return "", err
	}
	var w word
	if err := json.Unmarshal(results[0], &w); err != nil {
		return "", d.client.Unreadable(a.asked, fmt.Errorf("%s: %w", name, err))
	}
	return string(w), nil
}

var nextLink = regexp.MustCompile(`<([^>]*)>[^<]*;\s*rel="?next"?`)

// next returns where a list goes on; empty at its end. A link to another host is refused.
func (d *caller) next(ctx context.Context, c *call, a answer) (string, error) {
	if !c.link {
		return d.scalar(ctx, "next", c.next, a)
	}
	m := nextLink.FindStringSubmatch(a.headers["link"]) // RFC 8288
	if m == nil {
		return "", nil
	}
	base, err := url.Parse(d.baseOf(c.host))
	if err != nil {
		return "", d.cannot(err.Error())
	}
	at := *base
	at.Path, at.RawQuery, _ = strings.Cut(base.Path+strings.TrimPrefix(a.asked, "GET "), "?")
	to, err := at.Parse(m[1])
	if err != nil || to.Host != base.Host || to.Scheme != base.Scheme {
		return "", d.client.Unreadable(a.asked, errors.New("the list goes on at another host, which is not followed"))
	}
	path, ok := strings.CutPrefix(to.RequestURI(), base.Path)
	if !ok || !strings.HasPrefix(path, "/") {
		return "", d.client.Unreadable(a.asked, errors.New("the list goes on outside the account's address, which is not followed"))
	}
	return path, nil
}
