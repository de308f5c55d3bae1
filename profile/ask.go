package profile

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/yosida95/uritemplate/v3"

	"beacon/outcall"
	"beacon/provider"
)

// question is what a request is made from.
type question struct {
	zone    provider.ZoneRef
	cursor  string
	mark    string
	receipt string
	names   map[string]string // of the one change, for interfaces with a request for each
	body    writeShape
}

// answer is what came back.
type answer struct {
	asked     string // method and path
	body      any    // JSON as it came, or a text
	headers   map[string]string
	status    int
	zone      zoneShape
	unchanged bool
}

// do makes one request and gives its answer; a failure is told as the profile says failures are told.
func (d *caller) do(ctx context.Context, c *call, q question) (answer, error) {
	r, err := d.request(ctx, c, q)
	if err != nil {
		return answer{}, err
	}
	res, err := d.client.Do(ctx, r)
	a := answer{asked: r.Method + " " + r.Path, status: res.Status, headers: map[string]string{}, zone: shapeZone(q.zone), unchanged: res.Status == http.StatusNotModified}
	for name, values := range res.Header {
		a.headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	a.body = json.RawMessage(res.Body)
	if !json.Valid(res.Body) {
		a.body = string(res.Body)
		if len(res.Body) == 0 {
			a.body = nil
		}
	}
	return a, d.told(ctx, err, a)
}

// request fills in a call.
func (d *caller) request(ctx context.Context, c *call, q question) (outcall.Request, error) {
	r := outcall.Request{Method: c.method, Headers: map[string]string{"Accept": "application/json, */*;q=0.5"}, Type: c.media}
	cursor := q.cursor
	if cursor == "" {
		cursor = c.start
	}
	if c.link && q.cursor != "" {
		r.Path = q.cursor
	} else {
		values := uritemplate.Values{}
		set := func(name, value string) {
			if value != "" {
				values.Set(name, uritemplate.String(value))
			}
		}
		set("cursor", cursor)
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
		path, err := c.path.Expand(values)
		if err != nil {
			return r, d.cannot("the address cannot be made: " + err.Error())
		}
		r.Path = path
	}
	if q.body.Mark == "" {
		q.body.Mark = q.mark
	}
	q.body.Zone = shapeZone(q.zone)
	for name, e := range c.headers {
		value, err := d.text(ctx, e, q.body)
		if err != nil {
			return r, d.unmade("the header "+name, err)
		}
		if value != "" {
			r.Headers[name] = value
		}
	}
	if c.body == "" {
		return r, nil
	}
	results, err := d.pool.Run(ctx, string(c.body), q.body, variables, []any{nil, nil, shapeZone(q.zone)})
	if err == nil && len(results) != 1 {
		err = fmt.Errorf("it returns %d results, not one", len(results))
	}
	if err != nil {
		return r, d.unmade("the body", err)
	}
	if c.media == "" {
		r.JSON = results[0]
		return r, nil
	}
	if json.Unmarshal(results[0], &r.Text) != nil {
		return r, d.cannot("the body is no text")
	}
	return r, nil
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

// results evaluates an expression on an answer.
func (d *caller) results(ctx context.Context, name string, e expression, a answer) ([]json.RawMessage, error) {
	if e == "" {
		return nil, nil
	}
	results, err := d.pool.Run(ctx, string(e), a.body, variables, []any{a.status, a.headers, a.zone})
	if err != nil {
		return nil, d.client.Unreadable(a.asked, fmt.Errorf("%s: %w", name, err))
	}
	return results, nil
}

// scalar evaluates an expression that gives one word, or none.
func (d *caller) scalar(ctx context.Context, name string, e expression, a answer) (string, error) {
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
	base, err := url.Parse(d.client.Base)
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
