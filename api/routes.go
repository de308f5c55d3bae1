package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/registrar"
	"beacon/service"
	"beacon/store"
)

// route is one entry of the table. Path parameters are written as the router wants them, :name.
type route struct {
	method, path string
	summary      string
	right        access.Right // needed; empty: open to everybody
	query        []string     // names of query parameters
	in           any          // a value of the body's type; nil for none
	out          any          // a value of the answer's type; nil for none
	status       int
	handle       func(*call) (any, error)
	stream       func(*call) error // instead of handle: writes its answer itself
	text         bool              // it answers plain text, not events
}

// Page is one page of a list: Next is the cursor of the following one, empty on the last.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}

// The bodies of requests and answers that are not the service's own types.
type (
	me struct {
		Name   string         `json:"name"`
		Rights []access.Right `json:"rights"`
	}
	clockNow struct {
		World time.Time `json:"world"`
		Rate  float64   `json:"rate"` // world seconds in one of the wall's
	}
	newAccount struct {
		Name    string `json:"name"`
		Role    string `json:"role"` // provider or registrar
		Kind    string `json:"kind"`
		Address string `json:"address"`
		Secret  string `json:"secret"`
	}
	accountAdded struct {
		Name string `json:"name"`
		Seen int    `json:"seen"` // zones or domains on the first page of what the credential can see
	}
	importFile struct {
		File   string `json:"file"`
		Text   string `json:"text"`
		DryRun bool   `json:"dry_run"`
	}
	restore struct {
		Revision uint32 `json:"revision"`
	}
	defineFiles struct {
		Files  []definition.File `json:"files"`
		DryRun bool              `json:"dry_run"`
	}
	startSync struct {
		Account string   `json:"account"` // only this placement; empty for all
		Allow   []string `json:"allow"`   // codes of guards
		Expect  string   `json:"expect"`  // digest of the change list that was shown; empty for any
		PutBack bool     `json:"put_back"`
	}
	delegate struct {
		Nameservers []string `json:"nameservers"` // empty for those of the zone's placements
		SaveOnly    bool     `json:"save_only"`
		DryRun      bool     `json:"dry_run"`
	}
)

// routes is the table of everything under /api/v1.
func routes() []route {
	list := append(routesOfPeople(), routesOfZones()...)
	list = append(append(list, routesOfDomains()...), routesOfHosts()...)
	return append(list, eventStream)
}

func routesOfPeople() []route {
	return []route{
		{method: "POST", path: "/sessions", summary: "Sign in", in: signIn{}, out: signedIn{}, status: http.StatusCreated, handle: startSession},
		{method: "DELETE", path: "/sessions/current", summary: "Sign out", right: access.Read, status: http.StatusNoContent, handle: endSession},
		{method: "GET", path: "/sessions/current", summary: "Who is signed in; an empty name for nobody", out: me{}, status: http.StatusOK, handle: currentSession},
		{method: "GET", path: "/me", summary: "Who this token belongs to", right: access.Read, out: me{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			c, err := k.svc.Caller(k.Request.Context(), k.token)
			return me{c.Name, c.Rights}, err
		}},
		{method: "GET", path: "/clock", summary: "World time, in which TTLs run", right: access.Read, out: clockNow{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			now, rate := k.svc.WorldNow()
			return clockNow{now, rate}, nil
		}},
		{method: "GET", path: "/logbook", summary: "Who did what, newest first", right: access.Read, query: []string{"subject", "requests", "cursor", "limit"}, out: Page[store.Entry]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			limit := k.limit()
			before, _ := strconv.ParseUint(k.Query("cursor"), 10, 64)
			items, err := k.svc.Logbook(k.Request.Context(), k.Query("subject"), k.Query("requests") == "true", before, limit)
			page := Page[store.Entry]{Items: items}
			if len(items) == limit {
				page.Next = strconv.FormatUint(items[limit-1].ID, 10)
			}
			return page, err
		}},
		{method: "GET", path: "/accounts", summary: "Connected accounts", right: access.Read, query: []string{"role"}, out: Page[store.Account]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Accounts(k.Request.Context(), k.DefaultQuery("role", service.RoleProvider))
			return Page[store.Account]{Items: items}, err
		}},
		{method: "POST", path: "/accounts", summary: "Connect an account; it is tried at once", right: access.Manage, in: newAccount{}, out: accountAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in newAccount
			if err := k.body(&in); err != nil {
				return nil, err
			}
			seen, err := k.svc.AddAccount(k.Request.Context(), service.NewAccount(in))
			return accountAdded{in.Name, seen}, err
		}},
		{method: "GET", path: "/accounts/:name/zones", summary: "Zones that a provider account holds", right: access.Read, out: Page[service.RemoteZone]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.RemoteZones(k.Request.Context(), k.Param("name"))
			return Page[service.RemoteZone]{Items: items}, err
		}},
		{method: "GET", path: "/accounts/:name/registrations", summary: "Domains that a registrar account holds", right: access.Read, out: Page[registrar.Registration]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Registrations(k.Request.Context(), k.Param("name"))
			return Page[registrar.Registration]{Items: items}, err
		}},
	}
}

func routesOfZones() []route {
	return []route{
		{method: "GET", path: "/zones", summary: "Zones that are looked after", right: access.Read, query: []string{"cursor", "limit"}, out: Page[service.ZoneView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Zones(k.Request.Context())
			return pageByName(k, items, func(z service.ZoneView) dnsname.Name { return z.Name }), err
		}},
		{method: "GET", path: "/zones/:name", summary: "One zone", right: access.Read, out: service.ZoneView{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Zone(k.Request.Context(), name)
		})},
		{method: "GET", path: "/zones/:name/records", summary: "What the zone should contain", right: access.Read, out: Page[record.Record]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			c, err := k.svc.Wanted(k.Request.Context(), name)
			return Page[record.Record]{Items: append([]record.Record{}, c.Records()...)}, err
		})},
		{method: "GET", path: "/zones/:name/findings", summary: "What the rules say of what the zone should contain", right: access.Read, out: Page[rules.Found]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Findings(k.Request.Context(), name)
			return Page[rules.Found]{Items: items}, err
		})},
		{method: "GET", path: "/zones/:name/revisions", summary: "Accepted states, newest first", right: access.Read, out: Page[store.Revision]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Revisions(k.Request.Context(), name)
			return Page[store.Revision]{Items: items}, err
		})},
		{method: "GET", path: "/zones/:name/comparison", summary: "What differs between two revisions; from=0 is before the first", right: access.Read, query: []string{"from", "to"}, out: service.Compared{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			from, err := k.revision("from")
			if err != nil {
				return nil, err
			}
			to, err := k.revision("to")
			if err != nil {
				return nil, err
			}
			return k.svc.CompareRevisions(k.Request.Context(), name, from, to)
		})},
		{method: "GET", path: "/zones/:name/history", summary: "The revisions that changed one name, newest first", right: access.Read, query: []string{"of"}, out: Page[service.NameChange]{}, status: http.StatusOK, handle: named(func(k *call, zone dnsname.Name) (any, error) {
			of, err := dnsname.Parse(k.Query("of"))
			if err != nil {
				return nil, &service.Problem{Kind: service.Invalid, Message: fmt.Sprintf("of: %s.", err)}
			}
			items, err := k.svc.NameHistory(k.Request.Context(), zone, of)
			return Page[service.NameChange]{Items: items}, err
		})},
		{method: "POST", path: "/zones/:name/restorations", summary: "Make what an earlier revision said what the zone should contain again", right: access.Write, in: restore{}, out: store.Revision{}, status: http.StatusCreated, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in restore
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Restore(k.Request.Context(), name, in.Revision)
		})},
		{method: "POST", path: "/zones/:name/imports", summary: "Take a zone file as what the zone should contain", right: access.Write, in: importFile{}, out: service.Imported{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in importFile
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.ImportZone(k.Request.Context(), service.Import{Zone: name, File: in.File, Text: in.Text, DryRun: in.DryRun})
		})},
		{method: "GET", path: "/zones/:name/differences", summary: "What differs between wanted and live, at each placement", right: access.Read, query: []string{"put_back"}, out: Page[service.Difference]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Differences(k.Request.Context(), name, driftPolicy(k.Query("put_back") == "true"))
			return Page[service.Difference]{Items: items}, err
		})},
		{method: "POST", path: "/zones/:name/syncs", summary: "Make live what is wanted, in the background", right: access.Write, in: startSync{}, out: Page[service.SyncView]{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in startSync
			if err := k.body(&in); err != nil {
				return nil, err
			}
			items, err := k.svc.StartSync(k.Request.Context(), service.SyncRequest{Zone: name, Account: in.Account, Allow: in.Allow, Expect: in.Expect, Drift: driftPolicy(in.PutBack)})
			return Page[service.SyncView]{Items: items}, err
		})},
		{method: "GET", path: "/syncs/:id", summary: "How a sync stands", right: access.Read, out: service.SyncView{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := strconv.ParseUint(k.Param("id"), 10, 64)
			if err != nil {
				return nil, &service.Problem{Kind: service.Invalid, Message: "The number of a sync is a whole number."}
			}
			return k.svc.Sync(k.Request.Context(), id)
		}},
		{method: "POST", path: "/drafts", summary: "Write a definition of a zone as a zone file or another provider has it; nothing is kept", right: access.Write, in: service.DraftRequest{}, out: service.Draft{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in service.DraftRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.Zone.IsZero() {
				return nil, &service.Problem{Kind: service.Invalid, Message: "Name the zone."}
			}
			return k.svc.Draft(k.Request.Context(), in)
		}},
		{method: "POST", path: "/definitions", summary: "Take definition files as what zones should contain", right: access.Write, in: defineFiles{}, out: Page[service.Defined]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in defineFiles
			if err := k.body(&in); err != nil {
				return nil, err
			}
			items, err := k.svc.Define(k.Request.Context(), in.Files, in.DryRun)
			return Page[service.Defined]{Items: items}, err
		}},
	}
}

func routesOfDomains() []route {
	return []route{
		{method: "GET", path: "/domains", summary: "Where each domain stands", right: access.Read, query: []string{"cursor", "limit"}, out: Page[service.DomainView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Domains(k.Request.Context())
			return pageByName(k, items, func(d service.DomainView) dnsname.Name { return d.Name }), err
		}},
		{method: "GET", path: "/domains/:name", summary: "One domain and the stages of its way", right: access.Read, out: service.DomainDetail{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Domain(k.Request.Context(), name)
		})},
		{method: "GET", path: "/domains/:name/report", summary: "The report of the last check", right: access.Read, out: delegation.Report{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			r, ok, err := k.svc.LastReport(k.Request.Context(), name)
			if err == nil && !ok {
				err = &service.Problem{Kind: service.Missing, Message: "This domain has not been checked yet. Check it: beacon check " + name.String()}
			}
			return r, err
		})},
		{method: "POST", path: "/domains/:name/checks", summary: "Check a domain now", right: access.Read, out: delegation.Report{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Check(k.Request.Context(), name)
		})},
		{method: "POST", path: "/domains/:name/delegation", summary: "Change a domain's nameservers at its registrar", right: access.Write, in: delegate{}, out: service.Delegated{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in delegate
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegate(k.Request.Context(), service.DelegateRequest{Domain: name, Nameservers: in.Nameservers, SaveOnly: in.SaveOnly, DryRun: in.DryRun})
		})},
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

func driftPolicy(putBack bool) diff.DriftPolicy {
	if putBack {
		return diff.PutBackDrift
	}
	return diff.LeaveDrift
}

// revision reads the number of a revision.
func (k *call) revision(parameter string) (uint32, error) {
	n, err := strconv.ParseUint(k.Query(parameter), 10, 32)
	if err != nil {
		return 0, &service.Problem{Kind: service.Invalid, Message: fmt.Sprintf("%s is the number of a revision.", parameter)}
	}
	return uint32(n), nil
}

// limit is how many items a page may have.
func (k *call) limit() int {
	n, err := strconv.Atoi(k.Query("limit"))
	if err != nil || n < 1 {
		return 100
	}
	return min(n, 200)
}

// pageByName cuts a list in canonical order of names; the cursor is the last name of the page before.
func pageByName[T any](k *call, items []T, name func(T) dnsname.Name) Page[T] {
	page := Page[T]{Items: []T{}}
	after, err := dnsname.Parse(k.Query("cursor"))
	limit := k.limit()
	for _, item := range items {
		if err == nil && name(item).Compare(after) <= 0 {
			continue
		}
		if len(page.Items) == limit {
			page.Next = name(page.Items[limit-1]).String()
			break
		}
		page.Items = append(page.Items, item)
	}
	return page
}
