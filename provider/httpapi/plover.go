package httpapi

import (
	"context"
	"net/http"
	"net/url"
	"regexp"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/zonefile"
	"beacon/outcall"
	"beacon/provider"
)

// Plover drives the Plover interface: whole zones as master files, with an ETag that each replacement must name.
type Plover struct{ Client *outcall.Client }

// NewPlover completes a client with the way in which Plover takes credentials.
func NewPlover(c outcall.Client) *Plover {
	c.Header, c.Prefix = "Authorization", "Plover "
	return &Plover{&c}
}

type ploverZone struct {
	Zone  string   `json:"zone"`
	Hosts []string `json:"hosts"`
}

func (p *Plover) zone(z ploverZone, asked string) (provider.Zone, error) {
	name, err := dnsname.Parse(z.Zone)
	if err != nil {
		return provider.Zone{}, p.Client.Unreadable(asked, err)
	}
	hosts, err := dnsname.ParseSet(z.Hosts)
	if err != nil {
		return provider.Zone{}, p.Client.Unreadable(asked, err)
	}
	return provider.Zone{Ref: provider.ZoneRef{ID: name.String(), Name: name}, Nameservers: hosts}, nil
}

// Zones lists all zones: the interface has no pages.
func (p *Plover) Zones(ctx context.Context, _ provider.Cursor) (provider.ZonePage, error) {
	var body []ploverZone
	if _, err := p.Client.Read(ctx, outcall.Request{Method: http.MethodGet, Path: "/dns/zones"}, &body); err != nil {
		return provider.ZonePage{}, err
	}
	var page provider.ZonePage
	for _, z := range body {
		zone, err := p.zone(z, "GET /dns/zones")
		if err != nil {
			return provider.ZonePage{}, err
		}
		page.Zones = append(page.Zones, zone)
	}
	return page, nil
}

// Describe needs no request: all zones are alike.
func (p *Plover) Describe(context.Context, provider.ZoneRef) (change.Caps, error) {
	return change.Caps{Granularity: change.ByZone, Atomic: true, OwnsApex: true, Marks: true, ApexAlias: true}, nil
}

func zonePath(zone string) string { return "/dns/zones/" + url.PathEscape(zone) }

// Create makes a zone.
func (p *Plover) Create(ctx context.Context, name dnsname.Name) (provider.Zone, error) {
	var body ploverZone
	path := zonePath(name.String())
	if _, err := p.Client.Read(ctx, outcall.Request{Method: http.MethodPut, Path: path}, &body); err != nil {
		return provider.Zone{}, err
	}
	return p.zone(body, "PUT "+path)
}

// Remove deletes a zone.
func (p *Plover) Remove(ctx context.Context, zone provider.ZoneRef) error {
	_, err := p.Client.Do(ctx, outcall.Request{Method: http.MethodDelete, Path: zonePath(zone.ID)})
	return err
}

// Read gives the whole zone, or says that it has not changed since the mark.
func (p *Plover) Read(ctx context.Context, zone provider.ZoneRef, from provider.ReadFrom) (provider.Page, error) {
	r := outcall.Request{Method: http.MethodGet, Path: zonePath(zone.ID) + "/file", Headers: map[string]string{}}
	if from.Mark != "" {
		r.Headers["If-None-Match"] = from.Mark
	}
	res, err := p.Client.Do(ctx, r)
	if err != nil {
		return provider.Page{}, err
	}
	if res.Status == http.StatusNotModified {
		return provider.Page{Mark: from.Mark, Unchanged: true}, nil
	}
	read, faults := zonefile.Read(follow.ReplaceAllString(string(res.Body), "${1}ALIAS$2"), zonefile.Options{Origin: zone.Name})
	if len(faults) > 0 {
		return provider.Page{}, p.Client.Unreadable("GET "+r.Path, faults[0])
	}
	return provider.Page{Records: read.Records, Mark: res.Header.Get("ETag")}, nil
}

// Plover's word for an ALIAS, which only the apex can have, and ours. The type stands behind owner, TTL and class, which may be missing.
var (
	follow = regexp.MustCompile(`(?m)^(\S+(?: +[0-9]+)?(?: +IN)? +)FOLLOW( )`)
	alias  = regexp.MustCompile(`(?m)^(\S+(?: +[0-9]+)?(?: +IN)? +)ALIAS( )`)
)

// Apply replaces the whole zone, if it is still the version that the batch was made from.
func (p *Plover) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	r := outcall.Request{Method: http.MethodPut, Path: zonePath(zone.ID) + "/file", Text: alias.ReplaceAllString(zonefile.Text(zone.Name, batch.Result), "${1}FOLLOW$2"),
		Headers: map[string]string{"If-Match": batch.Mark}}
	_, err := p.Client.Do(ctx, r)
	return provider.Receipt{Done: err == nil}, err
}

// Poll gives the receipt back: a replacement is done when Apply returns.
func (p *Plover) Poll(_ context.Context, receipt provider.Receipt) (provider.Receipt, error) {
	return receipt, nil
}
