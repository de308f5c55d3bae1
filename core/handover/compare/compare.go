// Package compare holds what two sets of nameservers answer for one zone against each other, before a domain moves from one to the
// other. It is pure; asking is left to others.
package compare

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
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

// Keys returns the record sets that two sides have to be asked for: those of all contents, in canonical order. What belongs to the
// side that serves a zone is left out, and an ALIAS is asked for as the addresses that it stands for.
func Keys(zone dnsname.Name, contents ...record.Contents) (keys []record.Key) {
	for _, c := range contents {
		for set := range c.Sets() {
			k := set.Key()
			switch {
			case k.Type == record.SOA || k.Type == record.NS && k.Name == zone:
				continue
			case k.Type == record.ALIAS:
				keys = append(keys, record.Key{Name: k.Name, Type: record.A}, record.Key{Name: k.Name, Type: record.AAAA})
				continue
			}
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, record.Key.Compare)
	return slices.Compact(keys)
}

// Compare returns the differences between two sides about keys, in their order. A key that a side was not heard about is one: missing
// evidence is no agreement.
func Compare(keys []record.Key, before, after Answers) (list []Difference) {
	for _, k := range keys {
		was, wasTTL, heardOld := side(before[k])
		is, isTTL, heardNew := side(after[k])
		d := Difference{Key: k, Old: was, New: is, OldTTL: wasTTL, NewTTL: isTTL}
		switch {
		case !heardOld || !heardNew:
			d.Kind = Unheard
		case was == is && wasTTL == isTTL:
			continue
		case was == is:
			d.Kind = TTL
		case is == nothing:
			d.Kind = Lost
		case was == nothing:
			d.Kind = Added
		default:
			d.Kind = Changed
		}
		list = append(list, d)
	}
	return list
}

const nothing = "nothing"

// side returns what one side answers, its largest TTL, and whether all of its servers that were asked were heard.
func side(answers []evidence.Observed) (text string, ttl uint32, heard bool) {
	if len(answers) == 0 {
		return "not asked", 0, false
	}
	var texts []string
	heard = true
	for _, o := range answers {
		if o.Answer == evidence.Silent || o.Answer == evidence.Lame || o.Answer == evidence.Referral {
			heard = false
		}
		if t := o.Text(); !slices.Contains(texts, t) {
			texts = append(texts, t)
		}
		ttl = max(ttl, o.TTL)
	}
	slices.Sort(texts)
	return strings.Join(texts, "; or "), ttl, heard
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
