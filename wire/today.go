package wire

import (
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// Today is what a user looks at first. Each list has its most urgent entries; the totals count all.
type Today struct {
	Attention   []TodayItem     `json:"attention"`    // what needs a person, the most urgent first
	States      []DomainCount   `json:"states"`       // how many domains have each state and gravest finding
	Settling    []TodaySettling `json:"settling"`     // domains that settle, those that are settled first first
	Running     []TodayItem     `json:"running"`      // syncs and delegations that have not ended
	Ending      []TodayEnding   `json:"ending"`       // registrations, certificates and signatures that end soon, the next first
	Done        TodayDone       `json:"done"`         // what was done since the same time yesterday
	Entries     []Entry         `json:"entries"`      // the newest lines of the logbook since then, without requests, sign-ins and what checks saw
	Samples     []TodaySample   `json:"samples"`      // of the last 30 days, in order
	SimulatedAt time.Time       `json:"simulated_at"` // now, in simulated time; the time itself outside the demo
}

// TodayItem is one thing that needs a person, or that runs.
type TodayItem struct {
	Kind    string             `json:"kind"`              // "domain", "handover", "sync", "drift", "draft" or "delegation"
	Zone    dnsname.Name       `json:"zone"`              // that it is about
	Account string             `json:"account,omitempty"` // at which provider account, for a sync or drift
	Verdict delegation.Verdict `json:"verdict,omitempty"` // state of the domain
	Finding string             `json:"finding,omitempty"` // code of the gravest finding of a domain
	ID      uint64             `json:"id,omitempty"`      // of the sync or act
	State   string             `json:"state,omitempty"`   // of the sync, act or placement
	Count   int                `json:"count,omitempty"`   // of drifted sets or of edits
	Message string             `json:"message,omitempty"` // why
	Since   *time.Time         `json:"since,omitempty"`   // real time
}

// TodaySettling is a domain that settles.
type TodaySettling struct {
	Zone      dnsname.Name `json:"zone"`
	SettlesBy *time.Time   `json:"settles_by"` // simulated time; null where there is no bound
}

// TodayEnding is something of a domain that ends soon.
type TodayEnding struct {
	Zone    dnsname.Name `json:"zone"`
	Code    string       `json:"code"`    // of the finding
	Subject string       `json:"subject"` // that it is about
	EndsAt  time.Time    `json:"ends_at"` // simulated time
}

// TodayDone counts what was done.
type TodayDone struct {
	Since       time.Time `json:"since"`       // real time
	Revisions   int       `json:"revisions"`   // accepted
	Syncs       int       `json:"syncs"`       // that ended well
	Troubled    int       `json:"troubled"`    // syncs that were blocked or failed
	Delegations int       `json:"delegations"` // nameserver lists that were changed
}

// TodaySample is what was measured at a moment.
type TodaySample struct {
	At        time.Time                  `json:"at"`        // real time
	Domains   map[delegation.Verdict]int `json:"domains"`   // how many in each state; the empty state: not checked yet
	Revisions int                        `json:"revisions"` // accepted since the sample before
	Syncs     int                        `json:"syncs"`     // that ended well since the sample before
	SyncMS    *int64                     `json:"sync_ms"`   // median of their times from request to end, milliseconds; null without any
	CheckMS   *int64                     `json:"check_ms"`  // mean time of the last check of each domain, milliseconds; null without any
}
