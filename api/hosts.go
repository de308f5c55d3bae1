package api

import (
	"errors"
	"net/http"
	"net/netip"
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
		{method: "GET", effect: looks, path: "/hosts", summary: "Names that follow a reported address", right: access.Read, query: []string{"cursor", "limit"}, out: wire.Page[wire.HostView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Hosts.Hosts(k.Request.Context())
			return pageByName(k, items, func(h wire.HostView) dnsname.Name { return h.Name }), err
		}},
		{method: "POST", effect: writes, path: "/hosts", summary: "Make a name follow the address that is reported for it", right: access.Write, in: wire.NewHost{}, out: wire.HostAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewHost
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Hosts.AddHost(k.Request.Context(), in)
		}},
		{method: "GET", effect: looks, path: "/hosts/:name", summary: "One host and what it reported", right: access.Read, out: wire.HostView{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Hosts.Host(k.Request.Context(), name)
		})},
		{method: "DELETE", effect: writes, path: "/hosts/:name", summary: "End that a name follows", right: access.Write, status: http.StatusNoContent, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return nil, k.svc.Hosts.RemoveHost(k.Request.Context(), name)
		})},
		get, post,
	}
}

// takeReport answers in one line of plain text, for clients that read no JSON.
func takeReport(k *call) error {
	k.Request.Body = http.MaxBytesReader(k.Writer, k.Request.Body, 4096)
	token := k.bearer()
	if token == "" {
		_, token, _ = k.Request.BasicAuth()
	}
	parameter := func(name string) string {
		return strings.TrimSpace(k.Request.FormValue(name))
	}
	in := hosts.AddressReport{Host: parameter("host"), V4: parameter("v4"), V6: parameter("v6")}
	if from, err := netip.ParseAddr(k.ClientIP()); err == nil {
		in.Peer = from
	}
	d, err := k.svc.Hosts.Report(k.Request.Context(), token, in)
	var p *wire.Problem
	status := http.StatusOK
	switch {
	case errors.As(err, &p) && p.Kind == wire.NotSignedIn:
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
