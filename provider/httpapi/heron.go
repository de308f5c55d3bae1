// Package httpapi holds the drivers of DNS providers that are reached over an HTTP interface, a file each.
package httpapi

import (
	"context"
	"net/http"
	"net/url"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

// Heron's limits, as its interface documents them.
const (
	heronMostSets = 20
	heronLeastTTL = 30
)

// Heron drives the Heron interface: record sets by relative name and type, cursors, atomic changes of up to 20 sets.
type Heron struct{ Client *outcall.Client }

// NewHeron completes a client with the way in which Heron takes credentials.
func NewHeron(c outcall.Client) *Heron {
	c.Header = "Heron-Key"
	return &Heron{&c}
}

type heronZone struct {
	ID     string   `json:"id"`
	Domain string   `json:"domain"`
	Served []string `json:"served_by"`
}

type heronSet struct {
	Label  string   `json:"label"`
	Kind   string   `json:"kind"`
	TTL    uint32   `json:"ttl"`
	Values []string `json:"values"`
}

func (h *Heron) zone(z heronZone) (provider.Zone, error) {
	name, err := dnsname.Parse(z.Domain)
	if err != nil {
		return provider.Zone{}, err
	}
	out := provider.Zone{Ref: provider.ZoneRef{ID: z.ID, Name: name}}
	out.Nameservers, err = dnsname.ParseSet(z.Served)
	return out, err
}

// Zones lists a page of zones.
func (h *Heron) Zones(ctx context.Context, cursor provider.Cursor) (provider.ZonePage, error) {
	var body struct {
		Zones []heronZone `json:"zones"`
		Next  string      `json:"next_cursor"`
	}
	if _, err := h.Client.Read(ctx, outcall.Request{Method: http.MethodGet, Path: "/v1/zones", Query: cursorQuery(cursor)}, &body); err != nil {
		return provider.ZonePage{}, err
	}
	page := provider.ZonePage{Next: provider.Cursor(body.Next)}
	for _, z := range body.Zones {
		zone, err := h.zone(z)
		if err != nil {
			return provider.ZonePage{}, h.Client.Unreadable("GET /v1/zones", err)
		}
		page.Zones = append(page.Zones, zone)
	}
	return page, nil
}

// Describe needs no request: all zones are alike.
func (h *Heron) Describe(context.Context, provider.ZoneRef) (change.Caps, error) {
	return change.Caps{Granularity: change.BySet, BatchSize: heronMostSets, Atomic: true, TTLFloor: heronLeastTTL, OwnsApex: true}, nil
}

// Create makes a zone.
func (h *Heron) Create(ctx context.Context, name dnsname.Name) (provider.Zone, error) {
	var body heronZone
	r := outcall.Request{Method: http.MethodPost, Path: "/v1/zones", JSON: map[string]string{"domain": plain(name)}}
	if _, err := h.Client.Read(ctx, r, &body); err != nil {
		return provider.Zone{}, err
	}
	zone, err := h.zone(body)
	if err != nil {
		return zone, h.Client.Unreadable("POST /v1/zones", err)
	}
	return zone, nil
}

// Remove deletes a zone.
func (h *Heron) Remove(ctx context.Context, zone provider.ZoneRef) error {
	_, err := h.Client.Do(ctx, outcall.Request{Method: http.MethodDelete, Path: "/v1/zones/" + url.PathEscape(zone.ID)})
	return err
}

// Read gives a page of record sets.
func (h *Heron) Read(ctx context.Context, zone provider.ZoneRef, from provider.ReadFrom) (provider.Page, error) {
	var body struct {
		Sets []heronSet `json:"sets"`
		Next string     `json:"next_cursor"`
	}
	path := "/v1/zones/" + url.PathEscape(zone.ID) + "/sets"
	if _, err := h.Client.Read(ctx, outcall.Request{Method: http.MethodGet, Path: path, Query: cursorQuery(from.Cursor)}, &body); err != nil {
		return provider.Page{}, err
	}
	page := provider.Page{Next: provider.Cursor(body.Next)}
	for _, s := range body.Sets {
		set, err := s.set(zone.Name)
		if err != nil {
			return provider.Page{}, h.Client.Unreadable("GET "+path, err)
		}
		page.Records = append(page.Records, set.Records()...)
	}
	return page, nil
}

func (s heronSet) set(zone dnsname.Name) (record.Set, error) {
	name := zone
	if s.Label != "" {
		var err error
		if name, err = dnsname.ParseRelative(s.Label, zone); err != nil {
			return record.Set{}, err
		}
	}
	typ, err := record.ParseType(s.Kind)
	if err != nil {
		return record.Set{}, err
	}
	return record.ParseSet(name, typ, s.TTL, s.Values)
}

func showSet(s record.Set, zone dnsname.Name) heronSet {
	out := heronSet{Kind: s.Type.String(), TTL: s.TTL}
	if s.Name != zone {
		out.Label = s.Name.Relative(zone)
	}
	for _, d := range s.Data {
		out.Values = append(out.Values, string(d))
	}
	return out
}

// Apply puts and drops sets in one atomic request.
func (h *Heron) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	body := map[string][]heronSet{"put": {}, "drop": {}}
	for _, s := range batch.Steps {
		if s.After.IsZero() {
			body["drop"] = append(body["drop"], showSet(s.Before, zone.Name))
		} else {
			body["put"] = append(body["put"], showSet(s.After, zone.Name))
		}
	}
	path := "/v1/zones/" + url.PathEscape(zone.ID) + "/changes"
	_, err := h.Client.Do(ctx, outcall.Request{Method: http.MethodPost, Path: path, JSON: body})
	return provider.Receipt{Done: err == nil}, err
}

// Poll gives the receipt back: changes are done when Apply returns.
func (h *Heron) Poll(_ context.Context, receipt provider.Receipt) (provider.Receipt, error) {
	return receipt, nil
}

func cursorQuery(cursor provider.Cursor) url.Values {
	if cursor == "" {
		return nil
	}
	return url.Values{"cursor": {string(cursor)}}
}

// plain writes a name without its final dot.
func plain(name dnsname.Name) string {
	text := name.String()
	return text[:len(text)-1]
}
