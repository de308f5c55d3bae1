package diff

import (
	"beacon/core/change"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/core/soa"
)

// Placed is a set as it was last put at a placement.
type Placed struct {
	Sent record.Set
	Read record.Set // as the provider gave it back; zero as long as it has not been read back
}

// Recognise returns what was placed, and live with those sets put as they were sent that are as the provider once gave
// them back: a provider that writes data its own way does not drift for that. What was written and not read back yet
// is taken to be the provider's way of writing it.
func Recognise(placed []Placed, live record.Contents) (sent, seen record.Contents) {
	sets := make([]record.Set, len(placed))
	var same []record.Set
	for i, p := range placed {
		sets[i] = p.Sent
		if p.Read.Equal(p.Sent) {
			continue
		}
		if now := live.Get(p.Sent.Key()); !now.IsZero() && (p.Read.IsZero() || now.Equal(p.Read)) {
			same = append(same, p.Sent)
		}
	}
	if len(same) > 0 {
		live = live.With(same...)
	}
	return record.ContentsOf(sets...), live
}

// Served reports whether an answer is what the step leaves behind. A removed set need only not be the old one: a
// wildcard may answer in its place.
func Served(o evidence.Observed, step change.Step) bool {
	if step.After.IsZero() {
		return o.Answer == evidence.NoData || o.Answer == evidence.NoName || o.Answer == evidence.Referral || o.Answer == evidence.Lame ||
			o.Answer == evidence.Positive && !(record.Set{Data: o.Data}).SameData(step.Before)
	}
	if step.After.Type == record.ALIAS { // nobody is asked for it: the provider gives addresses in its place
		return true
	}
	if step.After.Type == record.NS || o.Answer == evidence.Referral { // a delegation, or glue below one: what refers is not authoritative
		return o.Answer != evidence.Silent
	}
	if step.After.Type == record.SOA { // the serial is the provider's
		now, is := soa.Of(record.NewSet(step.After.Name, record.SOA, step.After.TTL, o.Data...))
		desired, _ := soa.Of(step.After)
		return o.Answer == evidence.Positive && is && now.Only(desired.Given()) == desired
	}
	return o.Answer == evidence.Positive && (record.Set{Data: o.Data}).SameData(step.After)
}
