package handover

import (
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/store"
)

// calendarOf is the calendar of a handover.
func (s *Handover) calendarOf(c handover.Course) (handover.Calendar, error) {
	if c.Urgent {
		return handover.Calendar{}, nil
	}
	return s.settings.Calendar(c.Window, c.Timezone)
}

// batch returns a handover among the others of its batch, which are locked until the transaction ends.
func batch(tx *store.Tx, p plan) (b handover.Batch, err error) {
	b = handover.Batch{Name: p.Batch, AtOnce: p.AtOnce}
	if p.Batch == "" {
		return b, nil
	}
	var about []string
	for _, do := range handover.Consent() {
		about = append(about, string(do))
	}
	list, err := tx.LockBatch(p.Batch, about)
	for _, m := range list {
		if m.ID == p.ID {
			b.UnderWay = m.UnderWay
			continue
		}
		b.Mates = append(b.Mates, handover.Mate{Domain: dnsname.FromKey(m.NameKey).Unicode(), UnderWay: m.UnderWay, Trouble: m.Trouble})
	}
	return b, err
}
