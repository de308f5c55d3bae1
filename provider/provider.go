// Package provider is the contract of a DNS provider: what the service asks of whoever hosts zones, and what every
// driver promises. Drivers stand in packages below; conform holds the run that each of them must pass.
//
// A driver knows one outside interface and nothing of ours. It turns that interface's records into core/record's and
// change steps into its requests. It never retries, never keeps state between calls, and reports each failure as an
// *outcall.Error.
package provider

import (
	"context"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Driver is one account at one provider. It is safe for concurrent use. One call is one request, but where a method's
// comment says otherwise.
type Driver interface {
	// Zones lists the account's zones, from the beginning for the empty cursor.
	Zones(ctx context.Context, cursor Cursor) (ZonePage, error)
	// Describe says what the provider can do with a zone. It may do without a request.
	Describe(ctx context.Context, zone ZoneRef) (change.Caps, error)
	// Create makes a zone. A zone that is there already is a Conflict.
	Create(ctx context.Context, name dnsname.Name) (Zone, error)
	// Remove deletes a zone and all that is in it.
	Remove(ctx context.Context, zone ZoneRef) error
	// Read gives a zone's records, page by page from the beginning for the empty ReadFrom.
	Read(ctx context.Context, zone ZoneRef, from ReadFrom) (Page, error)
	// Apply does one batch.
	Apply(ctx context.Context, zone ZoneRef, batch change.Batch) (Receipt, error)
	// Poll asks what became of a batch that was only accepted. Drivers whose Apply is final give the receipt back.
	Poll(ctx context.Context, receipt Receipt) (Receipt, error)
}

// Cursor is a place in a list, as the provider gave it; empty for the beginning, and behind the end.
type Cursor string

// ZoneRef is how the provider names a zone.
type ZoneRef struct {
	ID   string
	Name dnsname.Name
}

// Zone is a zone at the provider, with the nameservers it was given.
type Zone struct {
	Ref         ZoneRef
	Nameservers []dnsname.Name // sorted
}

// ZonePage is one page of a list of zones.
type ZonePage struct {
	Zones []Zone
	Next  Cursor // empty on the last page
}

// ReadFrom says where reading goes on, and what is known already.
type ReadFrom struct {
	Cursor Cursor
	Mark   string // change mark of an earlier read; where nothing has changed since, the page says so
}

// Page is one page of a zone's records.
type Page struct {
	Records   []record.Record
	Next      Cursor
	Mark      string // change mark; empty where the provider has none
	Unchanged bool   // nothing has changed since ReadFrom.Mark, and Records is empty for that reason
}

// Receipt is what a provider says of a batch.
type Receipt struct {
	ID   string // to poll with; empty where the batch is done
	Done bool
}

// ReadAll reads a whole zone: one call of Read for each page, and a last mark.
func ReadAll(ctx context.Context, d Driver, zone ZoneRef) (record.Contents, string, error) {
	var all []record.Record
	from := ReadFrom{}
	for {
		page, err := d.Read(ctx, zone, from)
		if err != nil {
			return record.Contents{}, "", err
		}
		all = append(all, page.Records...)
		if page.Next == "" {
			return record.NewContents(all), page.Mark, nil
		}
		from.Cursor = page.Next
	}
}

// FindZone looks a zone up by its name, page by page. It gives false where the account does not have it.
func FindZone(ctx context.Context, d Driver, name dnsname.Name) (Zone, bool, error) {
	for cursor := Cursor(""); ; {
		page, err := d.Zones(ctx, cursor)
		if err != nil {
			return Zone{}, false, err
		}
		for _, z := range page.Zones {
			if z.Ref.Name == name {
				return z, true, nil
			}
		}
		if cursor = page.Next; cursor == "" {
			return Zone{}, false, nil
		}
	}
}
