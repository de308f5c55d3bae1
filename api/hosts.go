package api

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/service/hosts"
	"beacon/wire"
)

func routesOfHosts() []route {
	report := route{effect: writes, path: "/report", summary: "Report a host's address, with the host's own token; answers one line: accepted, unchanged or refused",
		query: []string{"host", "v4", "v6"}, status: http.StatusOK, stream: takeReport, text: true}
	get, post := report, report
	get.method, post.method = "GET", "POST"
	return []route{
		{method: "GET", effect: looks, path: "/hosts", summary: "Names that follow a reported address", needs: access.See, query: []string{"cursor", "limit"}, out: wire.Page[wire.HostView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			after, err := k.after()
			if err != nil {
				return nil, err
			}
			items, more, err := k.svc.Hosts.Hosts(k.Request.Context(), k.caller, after, k.limit())
			return nextByName(items, more, func(h wire.HostView) dnsname.Name { return h.Name }), err
		}},
		{method: "POST", effect: writes, secret: true, path: "/hosts", summary: "Make a name follow the address that is reported for it", needs: access.Edit, in: wire.NewHost{}, out: wire.HostAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewHost
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Hosts.AddHost(k.Request.Context(), k.caller, in)
		}},
		{method: "GET", effect: looks, path: "/hosts/:name", summary: "One host and what it reported", needs: access.See, out: wire.HostView{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Hosts.Host(k.Request.Context(), k.caller, name)
		})},
		{method: "DELETE", effect: writes, path: "/hosts/:name", summary: "End that a name follows", needs: access.Edit, status: http.StatusNoContent, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return nil, k.svc.Hosts.RemoveHost(k.Request.Context(), k.caller, name)
		})},
		get, post,
	}
}

// takeReport answers in one line of plain text, for clients that read no JSON.
func takeReport(k *call) error {
	token := k.bearer()
	if token == "" {
		_, token, _ = k.Request.BasicAuth()
	}
	in := hosts.AddressReport{}
	if said, err := readReport(k.Request); err != nil {
		in.Unreadable = err.Error()
	} else {
		in.Host, in.V4, in.V6 = said.Get("host"), said.Get("v4"), said.Get("v6")
	}
	in.Peer = k.from()
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
	case err != nil:
		return err
	case d.Outcome == dynaddr.Refused:
		status = http.StatusUnprocessableEntity
	}
	line := string(d.Outcome)
	if d.Reason != "" {
		line += ": " + d.Reason
	}
	k.String(status, "%s\n", line)
	return nil
}

// longestReport is how many octets the body of a report may have.
const longestReport = 4096

// readReport returns the parameters of a report, those of the query and of a form. What it does not know it does not pass
// over: the address that was meant may be in it, and the sender's own would be published instead.
func readReport(r *http.Request) (url.Values, error) {
	said, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return nil, errors.New("the parameters cannot be read; they are host, v4 and v6, as in v4=ADDRESS&v6=ADDRESS")
	}
	form, err := readForm(r)
	if err != nil {
		return nil, err
	}
	for name, values := range form {
		said[name] = append(said[name], values...)
	}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		switch {
		case name != "host" && name != "v4" && name != "v6":
			return nil, fmt.Errorf("%.60q is no parameter of a report; it knows host, v4 and v6", name)
		case len(said[name]) > 1:
			return nil, fmt.Errorf("%s is given more than once", name)
		}
		said.Set(name, strings.TrimSpace(said.Get(name)))
	}
	return said, nil
}

// readForm returns what stands in a request's body, which is a form or empty.
func readForm(r *http.Request) (url.Values, error) {
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
	case given == "":
		return nil, errors.New("a body without a Content-Type is not read; send host, v4 and v6 in the query, or as a form")
	default:
		return nil, fmt.Errorf("a body of %.60s is not read; send host, v4 and v6 in the query, or as a form", given)
	}
	return nil, fmt.Errorf("the body is no form of %s; send host, v4 and v6 in the query, or as a form", kind)
}
