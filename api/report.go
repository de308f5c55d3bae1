package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"beacon/core/access"
	"beacon/core/dynaddr"
	"beacon/service/hosts"
	"beacon/wire"
)

// tokenParameter is where clients that know no other way say their token.
const tokenParameter = "token"

// takeReport answers in one line of plain text, for clients that read no JSON.
func takeReport(k *call) error {
	in := hosts.AddressReport{Peer: k.from()}
	said, wrong := readReport(k.Request)
	if wrong != nil {
		in.Unreadable = wrong.Error()
	}
	token := k.bearer()
	if token == "" {
		_, token, _ = k.Request.BasicAuth()
	}
	if token == "" {
		token = said.Get(tokenParameter)
	}
	said.Del(tokenParameter)
	in.Said = said
	var d dynaddr.Decision
	caller, err := k.svc.Users.Caller(k.Request.Context(), token, in.Peer, access.Report)
	if err == nil {
		d, err = k.svc.Hosts.Report(k.Request.Context(), caller, in)
	}
	var p *wire.Problem
	status := http.StatusOK
	switch {
	case errors.As(err, &p) && (p.Kind == wire.NotSignedIn || p.Kind == wire.NotPermitted):
		k.Header("WWW-Authenticate", `Basic realm="report"`)
		status, d = http.StatusUnauthorized, dynaddr.Decision{Outcome: dynaddr.Refused, Reason: "the token is not one of a host here"}
	case errors.As(err, &p) && p.Kind == wire.Limited:
		k.Header("Retry-After", strconv.Itoa(max(p.After, 1)))
		status, d = http.StatusTooManyRequests, dynaddr.Decision{Outcome: dynaddr.Refused, Reason: fmt.Sprintf("too many reports; report again after %d s", max(p.After, 1))}
	case err != nil:
		return err
	case d.Outcome == dynaddr.Refused:
		status = http.StatusUnprocessableEntity
	case !d.Until.IsZero():
		k.Header("Retry-After", strconv.Itoa(int(k.svc.Hosts.Until(d).Seconds())+1))
	}
	k.String(status, "%s\n", d)
	return nil
}

// longestReport is how many octets the body of a report may have.
const longestReport = 4096

// readReport returns the parameters of a report, those of the query and of its body. What it does not know it does not pass over: the address that was meant may
// be in it, and the sender's own would be published instead. They are not nil where there is an error.
func readReport(r *http.Request) (url.Values, error) {
	said, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return url.Values{}, errors.New("the parameters cannot be read; they are host, v4, v6 and prefix, as in v4=ADDRESS&v6=ADDRESS")
	}
	form, err := readForm(r)
	for name, values := range form {
		said[name] = append(said[name], values...)
	}
	return said, err
}

// readForm returns what stands in a request's body, which is a form, an object of JSON, or empty.
func readForm(r *http.Request) (url.Values, error) {
	const how = "send host, v4, v6 and prefix in the query, as a form, or as a JSON object"
	body, err := io.ReadAll(io.LimitReader(r.Body, longestReport+1))
	switch {
	case err != nil:
		return nil, errors.New("the body broke off")
	case len(body) > longestReport:
		return nil, fmt.Errorf("the body is longer than %d octets", longestReport)
	case len(body) == 0:
		return nil, nil
	}
	given := r.Header.Get("Content-Type")
	kind, parameters, _ := mime.ParseMediaType(given)
	switch {
	case kind == "application/x-www-form-urlencoded":
		if form, err := url.ParseQuery(string(body)); err == nil {
			return form, nil
		}
	case kind == "multipart/form-data":
		if form, err := multipart.NewReader(bytes.NewReader(body), parameters["boundary"]).ReadForm(longestReport); err == nil && len(form.File) == 0 {
			return form.Value, nil
		}
	case kind == "application/json":
		form, err := readObject(body)
		if err != nil {
			return nil, fmt.Errorf("the body: %w; send an object such as {\"v4\": \"ADDRESS\"}", err)
		}
		return form, nil
	case given == "":
		return nil, errors.New("a body without a Content-Type is not read; " + how)
	default:
		return nil, fmt.Errorf("a body of %.60s is not read; %s", given, how)
	}
	return nil, fmt.Errorf("the body is no form of %s; %s", kind, how)
}

// readObject returns what an object of JSON says: texts, and lists of texts. null says nothing.
func readObject(body []byte) (url.Values, error) {
	var object map[string]any
	if err := json.Unmarshal(body, &object); err != nil {
		return nil, errors.New("it is no JSON object")
	}
	said := url.Values{}
	for name, value := range object {
		list, ok := value.([]any)
		if !ok {
			list = []any{value}
		}
		for _, one := range list {
			switch text := one.(type) {
			case nil:
			case string:
				said.Add(name, strings.TrimSpace(text))
			default:
				return nil, fmt.Errorf("%.60q is neither a text nor a list of texts", name)
			}
		}
	}
	return said, nil
}
