package registrar

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"beacon/core/dnsname"
)

// ErrNotRegistered is what RDAP gives for a domain that nobody holds.
var ErrNotRegistered = errors.New("the registry knows no such domain")

// mostRDAP bounds what is read of an answer, in octets.
const mostRDAP = 1 << 20

// Entry is a registration as its registry knows it.
type Entry struct {
	Registration
	Registrar string // its name; empty where the registry does not tell it
	Signed    bool   // the parent has a DS
}

// entity is somebody who has to do with a registration (RFC 9083 section 5.1).
type entity struct {
	Handle string   `json:"handle"`
	Roles  []string `json:"roles"`
	Card   []any    `json:"vcardArray"` // jCard (RFC 7095)
}

// name returns the full name on its card; its handle where it has none.
func (e entity) name() string {
	if len(e.Card) == 2 {
		fields, _ := e.Card[1].([]any)
		for _, f := range fields {
			if field, ok := f.([]any); ok && len(field) == 4 && field[0] == "fn" {
				if text, ok := field[3].(string); ok && text != "" {
					return text
				}
			}
		}
	}
	return e.Handle
}

// LookUp asks a registry's RDAP server for a domain (RFC 9082 section 3.1.3): its status, its end, its registrar and the nameservers
// that it lists (RFC 9083 sections 4.5, 4.6 and 5.3). base is the address below which it answers. What it lists may be behind what the parents
// serve.
func LookUp(ctx context.Context, client *http.Client, base string, name dnsname.Name) (r Entry, err error) {
	at, err := url.JoinPath(base, "domain", strings.TrimSuffix(name.String(), "."))
	if err != nil {
		return r, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return r, err
	}
	req.Header.Set("Accept", "application/rdap+json")
	res, err := client.Do(req)
	if err != nil {
		return r, fmt.Errorf("asking RDAP: %w", err)
	}
	defer res.Body.Close()
	switch {
	case res.StatusCode == http.StatusNotFound:
		return r, ErrNotRegistered
	case res.StatusCode != http.StatusOK:
		return r, fmt.Errorf("asking RDAP: it answers with the status %d", res.StatusCode)
	}
	var body struct {
		Class    string   `json:"objectClassName"`
		Status   []string `json:"status"`
		Entities []entity `json:"entities"`
		Secure   struct {
			Signed bool `json:"delegationSigned"`
		} `json:"secureDNS"`
		Names []struct {
			LDH string `json:"ldhName"`
		} `json:"nameservers"`
		Events []struct {
			Action string    `json:"eventAction"`
			Date   time.Time `json:"eventDate"`
		} `json:"events"`
	}
	text, err := io.ReadAll(io.LimitReader(res.Body, mostRDAP))
	if err == nil {
		err = json.Unmarshal(text, &body)
	}
	if err == nil && body.Class != "domain" {
		err = fmt.Errorf("it describes a %q, not a domain", body.Class)
	}
	if err != nil {
		return r, fmt.Errorf("reading the answer of RDAP: %w", err)
	}
	r = Entry{Registration: Registration{Name: name, Status: body.Status}, Signed: body.Secure.Signed}
	for _, e := range body.Entities {
		if slices.Contains(e.Roles, "registrar") && r.Registrar == "" {
			r.Registrar = e.name()
		}
	}
	hosts := make([]string, len(body.Names))
	for i, n := range body.Names {
		hosts[i] = n.LDH
	}
	if r.Active, err = dnsname.ParseSet(hosts); err != nil {
		return r, fmt.Errorf("reading the answer of RDAP: %w", err)
	}
	for _, e := range body.Events {
		if e.Action == "expiration" {
			r.Expires = e.Date
		}
	}
	return r, nil
}
