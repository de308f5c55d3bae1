// Package httpapi holds the drivers of registrars that are reached over an HTTP interface, a file each.
package httpapi

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/registrar"
)

// Gannet drives the Gannet interface, at which a stored list is not active until it is activated.
type Gannet struct{ Client *outcall.Client }

// NewGannet completes a client with the way in which Gannet takes credentials.
func NewGannet(c outcall.Client) *Gannet {
	c.Header, c.Prefix = "Authorization", "Bearer "
	return &Gannet{&c}
}

type gannetDomain struct {
	Domain  string    `json:"domain"`
	Stored  []string  `json:"stored_hosts"`
	InForce []string  `json:"hosts_in_force"`
	Expires time.Time `json:"registered_until"`
	States  []string  `json:"states"`
}

func (d gannetDomain) registration() (registrar.Registration, error) {
	name, err := dnsname.Parse(d.Domain)
	if err != nil {
		return registrar.Registration{}, err
	}
	r := registrar.Registration{Name: name, Expires: d.Expires, Status: d.States}
	if r.Saved, err = dnsname.ParseSet(d.Stored); err != nil {
		return r, err
	}
	r.Active, err = dnsname.ParseSet(d.InForce)
	return r, err
}

// Caps means that lists must be activated.
func (g *Gannet) Caps() registrar.Caps { return registrar.Caps{NeedsActivation: true} }

// Domains lists a page of registrations.
func (g *Gannet) Domains(ctx context.Context, cursor registrar.Cursor) (registrar.Page, error) {
	var body struct {
		Registrations []gannetDomain `json:"registrations"`
		Next          string         `json:"next_after"`
	}
	r := outcall.Request{Method: http.MethodGet, Path: "/registrations"}
	if cursor != "" {
		r.Query = url.Values{"after": {string(cursor)}}
	}
	if _, err := g.Client.Read(ctx, r, &body); err != nil {
		return registrar.Page{}, err
	}
	page := registrar.Page{Next: registrar.Cursor(body.Next)}
	for _, d := range body.Registrations {
		reg, err := d.registration()
		if err != nil {
			return registrar.Page{}, g.Client.Unreadable(r.Method+" "+r.Path, err)
		}
		page.Registrations = append(page.Registrations, reg)
	}
	return page, nil
}

func path(name dnsname.Name) string {
	text := name.String()
	return "/registrations/" + url.PathEscape(text[:len(text)-1])
}

// Domain returns one registration.
func (g *Gannet) Domain(ctx context.Context, name dnsname.Name) (registrar.Registration, error) {
	return g.ask(ctx, outcall.Request{Method: http.MethodGet, Path: path(name)})
}

// Save stores a list; it is not active yet.
func (g *Gannet) Save(ctx context.Context, name dnsname.Name, nameservers []dnsname.Name) (registrar.Registration, error) {
	hosts := make([]string, len(nameservers))
	for i, n := range nameservers {
		hosts[i] = n.String()
	}
	return g.ask(ctx, outcall.Request{Method: http.MethodPut, Path: path(name) + "/hosts", JSON: map[string][]string{"hosts": hosts}})
}

// Activate brings the stored list into force.
func (g *Gannet) Activate(ctx context.Context, name dnsname.Name) (registrar.Registration, error) {
	return g.ask(ctx, outcall.Request{Method: http.MethodPost, Path: path(name) + "/hosts/activate"})
}

func (g *Gannet) ask(ctx context.Context, r outcall.Request) (registrar.Registration, error) {
	var body gannetDomain
	if _, err := g.Client.Read(ctx, r, &body); err != nil {
		return registrar.Registration{}, err
	}
	reg, err := body.registration()
	if err != nil {
		return reg, g.Client.Unreadable(r.Method+" "+r.Path, err)
	}
	return reg, nil
}
