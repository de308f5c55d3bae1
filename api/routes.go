package api

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/rules"
	"beacon/wire"
)

// route is one entry of the table. Path parameters are written as the router wants them, :name.
type route struct {
	method, path string
	effect       effect
	summary      string
	needs        access.Action // of the caller, somewhere; the use case says where. Or anybody, or signedIn
	query        []string      // names of query parameters
	in           any           // a value of the body's type; nil for none
	out          any           // a value of the answer's type; nil for none
	status       int
	handle       func(*call) (any, error)
	stream       func(*call) error // instead of handle: writes its answer itself
	text         bool              // it answers plain text, not events
	tagged       bool              // its answer has an ETag, for If-Match
	match        match             // what If-Match is held against
	secret       bool              // its answer has a secret, which is shown once
	most         int               // how many of one user may be under way at a time; 0 for any number
}

// What a route may need in place of an action.
const (
	anybody  access.Action = ""          // not even a sign-in
	signedIn access.Action = "signed-in" // any sign-in or token
)

// effect reports whether a route may change anything.
type effect string

// A route that looks changes nothing: the database refuses to be written, and drivers refuse to send what changes something. One that
// writes does so too where it is asked for a dry run.
const (
	looks  effect = "looks"
	writes effect = "writes"
)

// routes is the table of everything under /api/v1.
func routes() []route {
	return slices.Concat(routesOfUsers(), routesOfTokens(), routesOfService(), routesOfZones(), routesOfAccounts(), routesOfRevisions(), routesOfDrafts(), routesOfSets(), routesOfDefinitions(), routesOfSearch(), routesOfDomains(), routesOfTSIGKeys(), routesOfHosts(), routesOfLocations(), routesOfActs(), routesOfHandovers(), routesOfGatherings(), []route{eventStream})
}

// routesOfService are those of the service itself.
func routesOfService() []route {
	return []route{
		{method: "GET", effect: looks, path: "/clock", summary: "Simulated time, in which TTLs run; real time outside the demo", needs: access.See, out: wire.ClockNow{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			now, rate := k.svc.WorldNow()
			return wire.ClockNow{World: now, Rate: rate}, nil
		}},
		{method: "POST", effect: writes, path: "/clock/steps", summary: "Skip simulated time to the next moment at which work is due, and wait until it is done; demo only", needs: access.Operate, in: wire.ClockStep{}, out: wire.ClockNow{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.ClockStep
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.StepClock(k.Request.Context(), k.caller, in.Until)
		}},
		{method: "GET", effect: looks, path: "/findings", summary: "Codes of findings: what each means, what to do, and what it blocks", needs: access.See, out: wire.Page[finding.Known]{}, status: http.StatusOK, handle: func(*call) (any, error) {
			return wire.Page[finding.Known]{Items: rules.Guide()}, nil
		}},
		{method: "GET", effect: looks, path: "/logbook", summary: "Who did what, newest first", needs: access.See, query: []string{"subject", "requests", "cursor", "limit"}, out: wire.Page[wire.Entry]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			limit := k.limit()
			before, err := k.before()
			if err != nil {
				return nil, err
			}
			items, err := k.svc.Logbook.Entries(k.Request.Context(), k.caller, k.Query("subject"), k.Query("requests") == "true", before, limit)
			page := wire.Page[wire.Entry]{Items: items}
			if len(items) == limit {
				page.Next = strconv.FormatUint(items[limit-1].ID, 10)
			}
			return page, err
		}},
	}
}

func routesOfDomains() []route {
	return []route{
		{method: "GET", effect: looks, path: "/today", summary: "What needs action, what is under way and until when, what ends soon, what was done since yesterday, and figures of the last 30 days", needs: access.See, out: wire.Today{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.svc.Overview.Today(k.Request.Context(), k.caller)
		}},
		{method: "GET", effect: looks, path: "/domains", summary: "Domains and their states, in order of their names or of a time; narrowed down by verdict, gravest finding and part of the name", needs: access.See, query: []string{"cursor", "limit", "verdict", "finding", "name", "sort"}, out: wire.Page[wire.DomainView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			f := wire.DomainFilter{Finding: k.Query("finding"), Name: k.Query("name"), Sort: k.Query("sort")}
			after, err := k.afterDomain(&f)
			if err != nil {
				return nil, err
			}
			if verdict, given := k.GetQuery("verdict"); given {
				v := delegation.Verdict(verdict)
				if verdict == "unchecked" {
					v = ""
				}
				f.Verdict = &v
			}
			items, more, err := k.svc.Overview.Domains(k.Request.Context(), k.caller, after, k.limit(), f)
			page := nextByName(items, more, func(d wire.DomainView) dnsname.Name { return d.Name })
			if more && f.Sort != "" {
				page.Next = domainCursor(items[len(items)-1], f.Sort)
			}
			return page, err
		}},
		{method: "GET", effect: looks, path: "/domain-counts", summary: "How many domains have each verdict and gravest finding", needs: access.See, out: wire.DomainCounts{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.svc.Overview.Counts(k.Request.Context(), k.caller)
		}},
		{method: "POST", effect: writes, path: "/brief-checks", summary: "Look briefly at all domains, in the background", needs: access.Check, out: wire.BriefChecks{}, status: http.StatusAccepted, handle: func(k *call) (any, error) {
			return k.svc.Checks.StartBriefChecks(k.Request.Context(), k.caller)
		}},
		{method: "GET", effect: looks, path: "/brief-checks", summary: "What came of brief looks since a moment", needs: access.See, query: []string{"since"}, out: wire.BriefChecks{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			since, err := time.Parse(time.RFC3339Nano, k.Query("since"))
			if err != nil {
				return nil, &wire.Problem{Kind: wire.Invalid, Message: "since is no moment; write it like 2030-03-01T12:00:00Z."}
			}
			return k.svc.Checks.BriefChecksSince(k.Request.Context(), k.caller, since)
		}},
		{method: "GET", effect: looks, path: "/domains/:name", summary: "One domain and the stages of its way", needs: access.See, out: wire.DomainDetail{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Overview.Domain(k.Request.Context(), k.caller, name)
		})},
		{method: "GET", effect: looks, path: "/domains/:name/report", summary: "The report of the last check", needs: access.See, out: delegation.Report{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			r, ok, err := k.svc.Checks.LastReport(k.Request.Context(), k.caller, name)
			if err == nil && !ok {
				err = &wire.Problem{Kind: wire.NotFound, Message: "This domain has not been checked yet. Check it: beacon check " + name.String()}
			}
			return r, err
		})},
		{method: "POST", effect: writes, path: "/domains/:name/checks", summary: "Check a domain now", needs: access.Check, out: delegation.Report{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Checks.Check(k.Request.Context(), k.caller, name)
		})},
		{method: "GET", effect: looks, path: "/domains/:name/answers", summary: "Raw responses of the last check", needs: access.See, out: wire.Page[evidence.Heard]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Checks.Answers(k.Request.Context(), k.caller, name)
			return wire.Page[evidence.Heard]{Items: items}, err
		})},
		{method: "GET", effect: looks, path: "/channels", summary: "List notification channels", needs: access.See, out: wire.Page[wire.ChannelView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			list, err := k.svc.Notify.Channels(k.caller)
			return wire.Page[wire.ChannelView]{Items: list}, err
		}},
		{method: "POST", effect: writes, path: "/channels/:name/tests", summary: "Send a test over a channel", needs: access.Operate, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			return nil, k.svc.Notify.TryChannel(k.Request.Context(), k.caller, k.Param("name"))
		}},
		{method: "POST", effect: looks, path: "/sweeps", summary: "Ask about a domain from here, and judge nothing: what another instance asks of a vantage point", needs: access.Sweep, most: 64, in: wire.SweepRequest{}, out: evidence.Sweep{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.SweepRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Checks.Sweep(k.Request.Context(), k.caller, in)
		}},
	}
}

// named wraps a route whose path holds a domain name.
func named(handle func(*call, dnsname.Name) (any, error)) func(*call) (any, error) {
	return func(k *call) (any, error) {
		name, err := k.domain()
		if err != nil {
			return nil, err
		}
		return handle(k, name)
	}
}

// limit is how many items a page may have.
func (k *call) limit() int { return k.limitUpTo(200) }

// limitUpTo is limit for lists whose items are small.
func (k *call) limitUpTo(most int) int {
	n, err := strconv.Atoi(k.Query("limit"))
	if err != nil { // none: checkQuery saw to the rest
		return 100
	}
	return min(n, most)
}

// checkQuery refuses parameters that the route does not have, and limits and cursors that are none.
func (k *call) checkQuery(r route) error {
	for name, values := range k.Request.URL.Query() {
		switch {
		case !slices.Contains(r.query, name):
			known := "It has none."
			if len(r.query) > 0 {
				known = "It has " + strings.Join(r.query, ", ") + "."
			}
			return wire.Problemf(wire.Invalid, "%s %s has no parameter %q. %s", r.method, Base+r.path, name, known)
		case len(values) > 1:
			return wire.Problemf(wire.Invalid, "The parameter %s is there %d times; it is written once.", name, len(values))
		case name == "limit":
			if n, err := strconv.Atoi(values[0]); err != nil || n < 1 {
				return wire.Problemf(wire.Invalid, "limit is %q; it is a number of entries, from 1 on.", values[0])
			}
		}
	}
	return nil
}

// before reads the cursor of a list that is numbered: only entries with lower numbers follow. It is 0 for the first page.
func (k *call) before() (uint64, error) {
	cursor := k.Query("cursor")
	if cursor == "" {
		return 0, nil
	}
	n, err := strconv.ParseUint(cursor, 10, 64)
	if err != nil {
		return 0, wire.Problemf(wire.Invalid, "The cursor %q is not one that a page returned. Leave it out to begin with the first page.", cursor)
	}
	return n, nil
}

// after reads the cursor of a list in canonical order of names: the last name of the page before. It is the zero name for the first page.
func (k *call) after() (dnsname.Name, error) {
	cursor := k.Query("cursor")
	if cursor == "" {
		return dnsname.Name{}, nil
	}
	name, err := dnsname.Parse(cursor)
	if err != nil {
		return name, wire.Problemf(wire.Invalid, "The cursor %q is not one that a page returned. Leave it out to begin with the first page.", cursor)
	}
	return name, nil
}

// nextByName returns a page of a list in canonical order of names.
func nextByName[T any](items []T, more bool, name func(T) dnsname.Name) wire.Page[T] {
	page := wire.Page[T]{Items: items}
	if page.Items == nil {
		page.Items = []T{}
	}
	if more {
		page.Next = name(items[len(items)-1]).String()
	}
	return page
}
