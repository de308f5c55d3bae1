package api

import (
	"context"
	"fmt"
	"net/http"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

// routesOfHandovers are the moves of domains to other nameservers. Each is one resource of its domain: the newest one.
func routesOfHandovers() []route {
	return []route{
		{method: "GET", effect: looks, path: "/handovers", summary: "Handovers: the open ones by the next moment at which something is due, or the ended ones, newest first", needs: access.See, query: []string{"state", "cursor", "limit"}, out: wire.Page[wire.HandoverSummary]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			state := k.Query("state")
			if state != "" && state != "open" && state != "ended" {
				return nil, wire.Problemf(wire.Invalid, "state is %q: write open or ended.", state)
			}
			return k.svc.Handover.List(k.Request.Context(), k.caller, state == "ended", k.Query("cursor"), k.limit())
		}},
		{method: "GET", effect: looks, path: "/domains/:name/handover", summary: "The newest handover of a domain, as it was decided last", needs: access.See, out: wire.Handover{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Handover.Show(k.Request.Context(), k.caller, name)
		})},
		{method: "POST", effect: looks, path: "/domains/:name/handover-forecast", summary: "The timetable of a handover, before anything is touched", needs: access.See, in: wire.ForecastRequest{}, out: wire.Forecast{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.ForecastRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Handover.Forecast(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: writes, path: "/domains/:name/handovers", summary: "Begin to move a domain to other nameservers, in the background; the registrar is asked for nothing before a user allows it", needs: access.Delegate, in: wire.HandoverRequest{}, out: wire.Handover{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.HandoverRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			v, err := k.svc.Handover.Begin(k.Request.Context(), k.caller, in)
			if err == nil {
				k.Header("Location", fmt.Sprintf("%s/domains/%s/handover", Base, dnsname.Short(name)))
			}
			return v, err
		})},
		{method: "POST", effect: writes, path: "/domains/:name/handover/words", summary: "Allow the next act of a handover, agree to differences, or pass gates", needs: access.Delegate, in: wire.HandoverWord{}, out: wire.Handover{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.HandoverWord{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Handover.Next(k.Request.Context(), k.caller, in)
		})},
		turning("/pause", "Pause a handover: nothing more is begun; the domain is still looked at", func(k *call) turn { return k.svc.Handover.Pause }),
		turning("/resumption", "Resume a paused handover", func(k *call) turn { return k.svc.Handover.Resume }),
		turning("/abandonment", "End a handover, and undo nothing", func(k *call) turn { return k.svc.Handover.Abandon }),
		turning("/return", "Go back: end the handover, or begin one that leads back", func(k *call) turn { return k.svc.Handover.Back }),
	}
}

// turn ends or turns a handover.
type turn = func(ctx context.Context, by access.Caller, r wire.HandoverEnd) (wire.Handover, error)

// turning is a route that ends or turns a handover.
func turning(path, summary string, do func(*call) turn) route {
	return route{method: "POST", effect: writes, path: "/domains/:name/handover" + path, summary: summary, needs: access.Delegate, in: wire.HandoverEnd{}, out: wire.Handover{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
		in := wire.HandoverEnd{Domain: name}
		if err := k.body(&in); err != nil {
			return nil, err
		}
		return do(k)(k.Request.Context(), k.caller, in)
	})}
}
