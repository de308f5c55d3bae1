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
	"beacon/core/soa"
	"beacon/outcall"
)

// Driver is one account at one provider. It is safe for concurrent use. One call is one request, but where a method's
// comment says otherwise.
type Driver interface {
	// Zones lists the account's zones, from the beginning for the empty cursor.
	Zones(ctx context.Context, cursor Cursor) (ZonePage, error)
	// Describe returns what the provider can do with a zone. It may do without a request.
	Describe(ctx context.Context, zone ZoneRef) (change.Caps, error)
	// Create makes a zone. A zone that is there already is a Conflict, unless another one is asked for.
	Create(ctx context.Context, name dnsname.Name, options ZoneOptions) (Zone, error)
	// Remove deletes a zone and all that is in it.
	Remove(ctx context.Context, zone ZoneRef) error
	// Read returns a zone's records, page by page from the beginning for the empty ReadFrom.
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

// ReadFrom returns where reading goes on, and what is known already.
type ReadFrom struct {
	Cursor Cursor
	Mark   string           // change mark of an earlier read; where nothing has changed since, the page says so
	Known  *record.Contents // what the zone held at Mark, so that only differences need to be read; nil to read it all
}

// ZoneOptions say how a zone is made. A driver leaves out what its interface has no place for.
type ZoneOptions struct {
	SOA     soa.Parameters // desired fields of its SOA record; the rest is the provider's choice
	Another bool           // with Caps.Another: a zone of this name is there already, and this one gets nameservers of its own
}

// Authority is a driver whose provider lets fields of the SOA record be set: those that its capabilities name. Such a change is a batch of one step
// of the SOA set (change.Batch.SOA), and Apply keeps the fields and the serial that it is not about.
type Authority interface {
	// SOA returns the zone's SOA set, with serial 0 (soa.Unnumbered).
	SOA(ctx context.Context, zone ZoneRef) (record.Set, error)
}

// Finder is a driver that can look for a zone by its name without listing all of them.
type Finder interface {
	Find(ctx context.Context, name dnsname.Name) (Zone, bool, error)
}

// NameReader is a driver that can read the records at one name by themselves, where its capabilities say so (change.Caps.ByName).
type NameReader interface {
	// ReadName returns the sets at a name, and nothing of the names below it; none where the name has no records. It is a request for each page.
	ReadName(ctx context.Context, zone ZoneRef, name dnsname.Name) (Page, error)
}

// Prober is a driver that can show whether its credential is right, without listing zones.
type Prober interface {
	Probe(ctx context.Context) error
}

// Server is a driver that knows where a zone's nameservers are reached, which their names need not lead to from here.
type Server interface {
	Servers() []string // address and port
}

// Direct is a driver that talks to one of the zone's nameservers itself.
type Direct interface {
	At() string // address and port; empty where it is none
}

// At returns which nameserver a driver talks to; empty where it talks to none.
func At(d Driver) string {
	if direct, ok := d.(Direct); ok {
		return direct.At()
	}
	return ""
}

// Watcher is a driver that can tell which of a zone's nameservers do not serve yet what was written, and until when they
// serve what they have.
type Watcher interface {
	Behind(ctx context.Context, zone ZoneRef) []string
}

// Right is something that a credential may do.
type Right string

// The rights of credentials. A service like ours needs the first two, and Zones where it makes zones; Keys never.
const (
	ReadRecords  Right = "read records"
	WriteRecords Right = "write records"
	Zones        Right = "make and remove zones"
	Keys         Right = "manage credentials"
)

// Holder is a driver that can tell what its credential may do.
type Holder interface {
	Rights(ctx context.Context) ([]Right, error)
}

// Page is one page of a zone's records.
type Page struct {
	Records   []record.Record
	Details   change.Details // of sets that have identifiers or attributes
	Next      Cursor
	Mark      string // change mark; empty where the provider has none
	Unchanged bool   // nothing has changed since ReadFrom.Mark, and Records is empty for that reason
	Since     *Since // in place of Records: what has changed since ReadFrom.Mark, where that is all that was read
}

// Since is what has changed in a zone.
type Since struct {
	Sets []record.Set // as they are now
	Gone []record.Key
}

// Receipt is what a provider says of a batch.
type Receipt struct {
	ID   string // to poll with; empty where the batch is done
	Zone ZoneRef
	Done bool
}

// State is a whole zone as a provider has it.
type State struct {
	Contents  record.Contents
	Details   change.Details
	Mark      string       // change mark; empty where the provider has none
	Unchanged bool         // nothing has changed since the mark that was given, and the rest is empty for that reason
	Changed   []record.Key // where only what has changed since that mark was read: these; all else is as it was
}

// ReadAll reads a whole zone: one call of Read for each page. Where the provider keeps change marks and the zone is
// still as it is known, which may be the zero State, that is said after one call. A zone that changes while its pages are read
// is read again from the start, where marks show it.
func ReadAll(ctx context.Context, d Driver, zone ZoneRef, known State) (State, error) {
	const mostTimes = 3
	for try := 1; ; try++ {
		state, whole, err := readOnce(ctx, d, zone, known)
		if err != nil || whole || try == mostTimes {
			return state, err
		}
	}
}

func readOnce(ctx context.Context, d Driver, zone ZoneRef, known State) (state State, whole bool, err error) {
	var all []record.Record
	details := change.Details{}
	var since *Since
	whole = true
	err = outcall.Pages(ctx, func(ctx context.Context, cursor Cursor) (Cursor, error) {
		from := ReadFrom{Cursor: cursor}
		if cursor == "" && known.Mark != "" {
			from.Mark, from.Known = known.Mark, &known.Contents
		}
		page, err := d.Read(ctx, zone, from)
		if err != nil {
			return "", err
		}
		whole = whole && (cursor == "" || page.Mark == state.Mark)
		state.Mark, state.Unchanged = page.Mark, page.Unchanged
		if page.Since != nil {
			since = page.Since
		}
		all = append(all, page.Records...)
		for key, detail := range page.Details {
			details.Join(key, detail)
		}
		return page.Next, nil
	})
	if err != nil {
		return State{}, false, err
	}
	switch {
	case state.Unchanged:
	case since != nil:
		state.Contents, state.Details = known.Contents.Without(since.Gone...).With(since.Sets...), known.Details
		state.Changed = append(state.Changed, since.Gone...)
		for _, set := range since.Sets {
			state.Changed = append(state.Changed, set.Key())
		}
	default:
		state.Contents, state.Details = record.NewContents(all), details
	}
	return state, whole, nil
}

// FindZone looks a zone up by its name, page by page where the driver has no shorter way. It gives false where the
// account does not have it.
func FindZone(ctx context.Context, d Driver, name dnsname.Name) (Zone, bool, error) {
	if f, ok := d.(Finder); ok {
		return f.Find(ctx, name)
	}
	var found Zone
	there := false
	err := outcall.Pages(ctx, func(ctx context.Context, cursor Cursor) (Cursor, error) {
		page, err := d.Zones(ctx, cursor)
		for _, z := range page.Zones {
			if z.Ref.Name == name {
				found, there = z, true
				return "", nil
			}
		}
		return page.Next, err
	})
	return found, there && err == nil, err
}

// AllZones returns the zones of an account.
func AllZones(ctx context.Context, d Driver) (list []Zone, err error) {
	err = outcall.Pages(ctx, func(ctx context.Context, cursor Cursor) (Cursor, error) {
		page, err := d.Zones(ctx, cursor)
		list = append(list, page.Zones...)
		return page.Next, err
	})
	return list, err
}
