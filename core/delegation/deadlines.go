package delegation

import (
	"slices"
	"time"

	"beacon/core/finding"
)

// Deadline is a moment at which something ends unless it is renewed: a registration, a signature, a certificate. A
// deadline that comes near leaves the verdict as it is.
type Deadline struct {
	Code    string    `json:"code"` // of the finding
	Subject string    `json:"subject"`
	By      time.Time `json:"by"`
}

// Equal reports whether two deadlines are the same.
func (d Deadline) Equal(o Deadline) bool {
	return d.Code == o.Code && d.Subject == o.Subject && d.By.Equal(o.By)
}

// Deadlines returns what a report warns of that has its date, of the delegation and of the sites.
func (r Report) Deadlines() (list []Deadline) {
	found := r.Findings
	if r.Arrival != nil {
		found = slices.Concat(found, r.Arrival.Findings)
	}
	for _, f := range found {
		if f.By != nil && f.Severity >= finding.Warning {
			list = append(list, Deadline{f.Code, f.Subject, *f.By})
		}
	}
	return list
}

// drift is by how much a deadline may move and still be the one that was told: signatures are made again a few at a time.
const drift = 24 * time.Hour

// Unheard returns those of a list that are none of what was told.
func Unheard(list, told []Deadline) (news []Deadline) {
	for _, d := range list {
		if !slices.ContainsFunc(told, func(o Deadline) bool {
			return o.Code == d.Code && o.Subject == d.Subject && o.By.Sub(d.By).Abs() < drift
		}) {
			news = append(news, d)
		}
	}
	return news
}

// StillAhead drops deadlines that are past at a moment, and adds others: what is to be remembered as told.
func StillAhead(told, more []Deadline, at time.Time) []Deadline {
	list := append(Unheard(told, more), more...)
	return slices.DeleteFunc(list, func(d Deadline) bool { return d.By.Before(at) })
}
