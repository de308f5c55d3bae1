// Package compare holds what two sets of nameservers answer for one zone against each other, before a domain moves from one to the
// other. It is pure; asking is left to others.
package compare

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"beacon/core/evidence"
	"beacon/core/record"
)

// Kind returns how two sides differ about a record set.
type Kind string

// Visitors of one side lack what the other has; get something else; or nobody knows, since one side was not heard. A difference in
// TTLs alone changes no answer.
const (
	Lost    Kind = "lost"    // the old side has it, the new one does not
	Added   Kind = "added"   // the new side has it, the old one does not
	Changed Kind = "changed" // both have it, and it differs
	Unheard Kind = "unheard" // one side gave no usable answer
	TTL     Kind = "ttl"     // the same data under other TTLs
)

// Difference is one record set that the two sides answer differently.
type Difference struct {
	Key    record.Key `json:"key"`
	Kind   Kind       `json:"kind"`
	Old    string     `json:"old"` // as people read it
	New    string     `json:"new"`
	OldTTL uint32     `json:"old_ttl"` // seconds
	NewTTL uint32     `json:"new_ttl"`
}

// Answers are what the servers of one side answered for each record set, in any order.
type Answers map[record.Key][]evidence.Observed

// Compare returns the differences between two sides about questions, in their order. A question that a side was not heard about is one: missing
// evidence is no agreement. Sides that rotate among the same data answer the same, and so do texts that are split otherwise.
func Compare(questions []Question, before, after Answers) (list []Difference) {
	for _, q := range questions {
		was, is := sideOf(q, before[q.Key]), sideOf(q, after[q.Key])
		d := Difference{Key: q.Shown, Old: was.text, New: is.text, OldTTL: was.ttl, NewTTL: is.ttl}
		same := was.text == is.text || was.rotates(is)
		switch {
		case !was.heard || !is.heard:
			d.Kind = Unheard
		case same && was.ttl == is.ttl:
			continue
		case same:
			d.Kind = TTL
		case q.Empty: // neither side has data there
			d.Kind = Changed
		case is.text == nothing:
			d.Kind = Lost
		case was.text == nothing:
			d.Kind = Added
		default:
			d.Kind = Changed
		}
		list = append(list, d)
	}
	return list
}

const nothing = "nothing"

// side is what one side answers to a question.
type side struct {
	text  string
	ttl   uint32        // the largest
	heard bool          // all of its servers that were asked were heard
	data  []record.Data // that any of them returned, sorted
	mixed bool          // not all answers are positive ones
}

func sideOf(q Question, answers []evidence.Observed) (s side) {
	if len(answers) == 0 {
		return side{text: "not asked"}
	}
	var texts []string
	s.heard = true
	for _, o := range answers {
		if q.Key.Type == record.TXT {
			o.Data = slices.Clone(o.Data)
			for i, d := range o.Data {
				o.Data[i] = record.OneText(record.TXT, d)
			}
			slices.Sort(o.Data)
		}
		referral := o.Answer == evidence.Referral
		if o.Answer == evidence.Silent || o.Answer == evidence.Lame || referral && (!q.Cut || len(o.Data) == 0) {
			s.heard = false
		}
		t := o.Text()
		if q.Empty && o.Answer == evidence.NoName {
			t = "no such name, though there are names below it"
		}
		if !slices.Contains(texts, t) {
			texts = append(texts, t)
		}
		s.mixed = s.mixed || o.Answer != evidence.Positive
		s.data = append(s.data, o.Data...)
		s.ttl = max(s.ttl, o.TTL)
	}
	slices.Sort(texts)
	slices.Sort(s.data)
	s.data = slices.Compact(s.data)
	s.text = strings.Join(texts, "; or ")
	return s
}

// rotates reports whether two sides return the same data, though not in every answer all of it.
func (s side) rotates(o side) bool {
	return !s.mixed && !o.mixed && len(s.data) > 1 && slices.Equal(s.data, o.data)
}

// Open returns the differences that change answers: all but those in TTLs.
func Open(list []Difference) []Difference {
	return slices.DeleteFunc(slices.Clone(list), func(d Difference) bool { return d.Kind == TTL })
}

// Digest names the differences that change answers, so that a user can agree to just these; it is empty where there are none.
func Digest(list []Difference) string {
	open := Open(list)
	if len(open) == 0 {
		return ""
	}
	h := sha256.New()
	for _, d := range open {
		_, _ = fmt.Fprintf(h, "%s\n%s\n%q\n%q\n", d.Key, d.Kind, d.Old, d.New)
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}
