package handover

import (
	"encoding/json"
	"slices"

	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/handover/compare"
	"beacon/service/accounts"
	"beacon/service/check"
	"beacon/service/jobs"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// The kinds of marks beside those that follow from evidence.
const (
	markAllowed = "allowed" // a user allowed an act
	markAgreed  = "agreed"  // a user agreed to differences, by digest
	markPassed  = "passed"  // a user passed a safety gate
	markBegun   = "begun"   // an act was begun
	markGrounds = "grounds" // on what evidence an act was begun, or asked of a user, a line each
	markRetry   = "retry"   // a user had what failed begun again
	markPaused  = "paused"
	markResumed = "resumed"
	markEnded   = "ended"
)

// plan is a handover as it is stored, read.
type plan struct {
	store.Handover
	zone   store.Zone
	domain store.Domain
	course handover.Course
	marks  []store.HandoverMark
	last   decided
	tells  bool          // the apex NS set of the old zone can be written
	seen   handover.Seen // of the decision that is being made
	to     string        // names of the accounts
	from   string
}

// decided is what was decided last, and from what.
type decided struct {
	handover.Decision
	Asked       *handover.Asked      `json:"asked"`
	Differences []compare.Difference `json:"differences"`
	Compared    int                  `json:"compared"`
	Digest      string               `json:"digest"`
	Stations    []handover.Station   `json:"stations"` // what is foreseen
	Place       string               `json:"place"`    // where the registration is
	ByHand      bool                 `json:"by_hand"`
	OldPlaced   bool                 `json:"old_placed"`
	OldTells    bool                 `json:"old_tells"` // the old zone names the new nameservers, or does so soon
	Doing       string               `json:"doing"`
	Trouble     string               `json:"trouble"`
	Hanging     []finding.Finding    `json:"hanging"`
	Gap         string               `json:"gap"`   // what to know, where the new side accepts the domain only once it is delegated there
	Heard       uint64               `json:"heard"` // the last mark that it was decided with
}

// read reads a stored handover.
func (s *Handover) read(tx *store.Tx, row store.Handover) (p plan, err error) {
	p.Handover = row
	if p.zone, err = zones.ByID(tx, row.ZoneID); err != nil {
		return p, err
	}
	if p.domain, err = check.DomainOrNew(tx, row.ZoneID); err != nil {
		return p, err
	}
	if err = json.Unmarshal([]byte(row.Course), &p.course); err != nil {
		return p, err
	}
	if row.Decided != "" {
		if err = json.Unmarshal([]byte(row.Decided), &p.last); err != nil {
			return p, err
		}
	}
	if p.from, err = accountName(tx, row.OldAccount); err != nil {
		return p, err
	}
	if p.to, err = accountName(tx, row.NewAccount); err != nil {
		return p, err
	}
	p.marks, err = tx.Marks(row.ID)
	return p, err
}

// evidence returns the marks that the decision is made with.
func (p plan) evidence() (list []handover.Mark) {
	for _, m := range p.marks {
		switch kind := handover.MarkKind(m.Kind); kind {
		case handover.MarkSwitched, handover.MarkSigned, handover.MarkLeft:
			mark := handover.Mark{Kind: kind, At: m.At, Withdrawn: m.Withdrawn}
			if m.Until != nil {
				mark.Until = *m.Until
			}
			list = append(list, mark)
		}
	}
	return list
}

// heard is the last of the marks.
func (p plan) heard() uint64 {
	if len(p.marks) == 0 {
		return 0
	}
	return p.marks[len(p.marks)-1].ID
}

// spoken reports whether a user said something since the last decision.
func (p plan) spoken() bool {
	return slices.ContainsFunc(p.marks, func(m store.HandoverMark) bool { return m.SaidBy != "" && m.ID > p.last.Heard })
}

// said returns what users said of one kind.
func (p plan) said(kind string) (list []string) {
	for _, m := range p.marks {
		if m.Kind == kind && !slices.Contains(list, m.About) {
			list = append(list, m.About)
		}
	}
	return list
}

// allowed returns the acts that users allowed.
func (p plan) allowed() (list []handover.Do) {
	for _, about := range p.said(markAllowed) {
		list = append(list, handover.Do(about))
	}
	return list
}

// agreed is the course with what users said since it was agreed on.
func (p plan) agreed() handover.Course {
	c := p.course
	if digests := p.said(markAgreed); len(digests) > 0 {
		c.Agreed = digests[len(digests)-1]
	}
	c.Override = append(slices.Clone(c.Override), p.said(markPassed)...)
	if c.Gap { // the registrar is asked all the same
		c.Override = append(c.Override, handover.GapGates()...)
	}
	return c
}

// evidenceOf keeps a mark that follows from evidence.
func evidenceOf(id uint64, m handover.Mark) store.HandoverMark {
	kept := store.HandoverMark{HandoverID: id, Kind: string(m.Kind), At: m.At, Withdrawn: m.Withdrawn}
	if !m.Until.IsZero() {
		kept.Until = &m.Until
	}
	return kept
}

// closedGates returns the gates of a decision that are closed, comfort gates among them.
func (d decided) closedGates() []finding.Finding {
	return slices.DeleteFunc(append([]finding.Finding{}, d.Closed...), func(f finding.Finding) bool {
		return f.Severity != finding.Error && !slices.Contains(handover.Comforts(), f.Code)
	})
}

// reserved returns the problem of what would come into the way of a handover.
func reserved(domain string, row store.Handover) error {
	if row.ID == 0 {
		return nil
	}
	return wire.Problemf(wire.Blocked, "Handover %d is moving %s. See what it does next: beacon handover next %s. Nothing was changed.", row.ID, domain, domain)
}

// Moving reports whether a handover moves a zone.
func (s *Handover) Moving(tx *store.Tx, z store.Zone) (bool, error) {
	row, err := tx.OpenHandover(z.ID)
	return row.ID != 0, err
}

// Reserved returns a problem where a handover moves a zone.
func (s *Handover) Reserved(tx *store.Tx, z store.Zone) error {
	row, err := tx.OpenHandover(z.ID)
	if err != nil {
		return err
	}
	return reserved(z.Name().Unicode(), row)
}

// Checked makes the handover of a domain due whose check was kept.
func (s *Handover) Checked(tx *store.Tx, d store.Domain) error {
	row, err := tx.OpenHandover(d.ZoneID)
	if err != nil || row.ID == 0 {
		return err
	}
	return s.due(tx, row)
}

// due has a handover looked at now.
func (s *Handover) due(tx *store.Tx, row store.Handover) error {
	return jobs.EnqueueIn(tx, store.JobHandover, row.ID, row.Lane, s.logbook.Now())
}

// accountName returns the name of an account; empty for none.
func accountName(tx *store.Tx, id *uint64) (string, error) {
	if id == nil {
		return "", nil
	}
	a, err := accounts.ByID(tx, *id)
	return a.Name, err
}

// stationsOf reads a timetable that was kept.
func stationsOf(text string) (list []handover.Station) {
	if text != "" {
		_ = json.Unmarshal([]byte(text), &list) // written by jsonText
	}
	return list
}

// Asks returns what the open handover of a domain asks of a user, in words; empty for nothing.
func (s *Handover) Asks(tx *store.Tx, domainID uint64) (string, error) {
	d, err := check.DomainByID(tx, domainID)
	if err != nil {
		return "", err
	}
	row, err := tx.OpenHandover(d.ZoneID)
	if row.State != store.HandoverOpen {
		return "", err
	}
	return row.Asks, err
}

// ends reports whether a timetable leads to the end.
func ends(list []handover.Station) bool {
	return len(list) > 0 && list[len(list)-1].Phase == handover.Done
}
