package gather

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/registrar"
	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Gather is the room. It is safe for concurrent use.
type Gather struct {
	logbook  *logbook.Book
	jobs     *jobs.Queue
	accounts *accounts.Accounts
	zones    *zones.Zones
	sweeper  *resolve.Sweeper
	timeout  time.Duration

	directory registrar.Directory
	http      *http.Client
	moving    func(tx *store.Tx, z store.Zone) (bool, error)
}

// Parts are what the room is made of.
type Parts struct {
	Logbook  *logbook.Book
	Jobs     *jobs.Queue
	Accounts *accounts.Accounts
	Zones    *zones.Zones
	Sweeper  *resolve.Sweeper
	Timeout  time.Duration // of one request outside

	Directory registrar.Directory // registries that return registrations
	HTTP      *http.Client

	// Moving reports whether a handover moves a zone.
	Moving func(tx *store.Tx, z store.Zone) (bool, error)
}

// New opens the room.
func New(p Parts) *Gather {
	return &Gather{logbook: p.Logbook, jobs: p.Jobs, accounts: p.Accounts, zones: p.Zones, sweeper: p.Sweeper, timeout: p.Timeout, directory: p.Directory, http: p.HTTP, moving: p.Moving}
}

// mostNames bounds the names that a user may name.
const mostNames = 1000

// asked is what a user asks for, as it is stored.
type asked struct {
	Account string       `json:"account"`
	Names   []string     `json:"names"`
	File    string       `json:"file"`
	Sets    []record.Set `json:"sets"`   // of the file
	Serial  uint32       `json:"serial"` // of the file
}

// Begin has a zone gathered in the background.
func (s *Gather) Begin(ctx context.Context, by access.Caller, r wire.GatheringRequest) (out wire.Gathering, err error) {
	if err := wire.Permit(by, access.Edit, access.Zone(r.Domain)); err != nil {
		return out, err
	}
	in := asked{Account: r.Account, File: r.File, Names: r.Names}
	if len(r.Names) > mostNames {
		return out, wire.Problemf(wire.Invalid, "At most %d names can be named; a zone file can have more (--file).", mostNames)
	}
	for _, text := range r.Names {
		if _, err := nameIn(r.Domain, text); err != nil {
			return out, wire.Problemf(wire.Invalid, "%s.", err)
		}
	}
	if r.Text != "" {
		read, faults := zonefile.Read(r.Text, zonefile.Options{Origin: r.Domain, File: r.File})
		if len(faults) == 0 {
			faults = read.Empty(r.File)
		}
		if len(faults) > 0 {
			return out, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The zone file has %s; nothing was looked at.", wording.Counted(len(faults), "fault")), Faults: faults}
		}
		for set := range read.Contents().Sets() {
			in.Sets = append(in.Sets, set)
		}
	}
	text, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if r.Account != "" {
			if _, err := accounts.ByName(tx, wire.RoleProvider, r.Account); err != nil {
				return err
			}
		}
		last, err := tx.GatheringOf(r.Domain)
		if err == nil && last.FinishedAt == nil {
			return wire.Problemf(wire.Blocked, "The records of %s are being gathered already, by %s. See how far it is: beacon zone gather %s --last.", r.Domain.Unicode(), last.RequestedBy, r.Domain.Unicode())
		}
		if err != nil && !store.IsMissing(err) {
			return err
		}
		g := store.Gathering{Domain: r.Domain.String(), Asked: string(text), RequestedBy: by.Name, Found: []byte{}}
		if err := tx.AddGathering(&g); err != nil {
			return err
		}
		if out, err = view(g); err != nil {
			return err
		}
		return jobs.Enqueue(tx, store.JobGather, g.ID, s.logbook.Now())
	})
	return out, err
}

// nameIn reads a name that a user wrote, relative to the zone or with all its labels.
func nameIn(zone dnsname.Name, text string) (dnsname.Name, error) {
	name, err := dnsname.ParseRelative(text, zone)
	if err == nil && !name.IsAtOrBelow(zone) {
		err = fmt.Errorf("%s is not below %s", text, zone.Unicode())
	}
	return name, err
}

// fileSource is the zone file that a user brought.
func (a asked) fileSource() (gather.Source, bool) {
	if len(a.Sets) == 0 {
		return gather.Source{}, false
	}
	return gather.Source{Kind: gather.FromFile, Name: a.File, Contents: record.ContentsOf(a.Sets...), Claim: gather.Unknown, Why: "nobody can tell whether it is the zone as it is now"}, true
}
