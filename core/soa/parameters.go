package soa

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// Parameters are fields of an SOA record. A zero field is not given. Times are in seconds, 1 to record.MaxTTL.
type Parameters struct {
	MName   dnsname.Name `json:"mname,omitzero"`    // the primary nameserver
	RName   dnsname.Name `json:"rname,omitzero"`    // the mailbox of who answers for the zone, as a name
	Refresh uint32       `json:"refresh,omitempty"` // how often secondaries ask
	Retry   uint32       `json:"retry,omitempty"`   // how soon they ask again after a failure
	Expire  uint32       `json:"expire,omitempty"`  // how long they answer without having reached the primary
	Minimum uint32       `json:"minimum,omitempty"` // how long caches keep that a name does not exist (RFC 2308 section 4)
	TTL     uint32       `json:"ttl,omitempty"`     // of the record itself
}

// Fields are the names of the fields, in the order of the record, the TTL last.
var Fields = []string{"mname", "rname", "refresh", "retry", "expire", "minimum", "ttl"}

// names returns the fields that are names.
func (p *Parameters) names() map[string]*dnsname.Name {
	return map[string]*dnsname.Name{"mname": &p.MName, "rname": &p.RName}
}

// times returns the fields that are times.
func (p *Parameters) times() map[string]*uint32 {
	return map[string]*uint32{"refresh": &p.Refresh, "retry": &p.Retry, "expire": &p.Expire, "minimum": &p.Minimum, "ttl": &p.TTL}
}

// IsZero reports whether no field is given.
func (p Parameters) IsZero() bool { return p == Parameters{} }

// Set reads one field: a name, a mail address or name for rname, or a time in seconds or such as "1h30m". Empty text makes the field one that is
// not given.
func (p *Parameters) Set(field, text string) (err error) {
	switch at, when := p.names()[field], p.times()[field]; {
	case at == nil && when == nil:
		return fmt.Errorf("%q is no field of an SOA record that can be set; the fields are %s", field, strings.Join(Fields, ", "))
	case text == "" && at != nil:
		*at = dnsname.Name{}
	case text == "":
		*when = 0
	case field == "rname":
		if *at, err = ParseMailbox(text); err != nil {
			return fmt.Errorf("rname: %w", err)
		}
	case at != nil:
		if *at, err = dnsname.Parse(text); err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
	default:
		seconds, err := zonefile.ParseTTL(text)
		if err != nil || seconds == 0 {
			return fmt.Errorf("%s: %q is no time; write seconds, or a number with s, m, h, d or w, from 1 to %d s", field, text, record.MaxTTL)
		}
		*when = seconds
	}
	return nil
}

// Parse reads fields by their names. It returns an error for one that cannot be, or for a contradiction between them.
func Parse(fields map[string]string) (p Parameters, err error) {
	for _, field := range slices.Sorted(maps.Keys(fields)) {
		if err := p.Set(field, fields[field]); err != nil {
			return p, err
		}
	}
	if problem := p.Problem(); problem != "" {
		return p, errors.New(problem)
	}
	return p, nil
}

// Get prints one field as Set reads it: rname as a mail address, times in seconds; empty where it is not given.
func (p Parameters) Get(field string) string {
	if at := p.names()[field]; at != nil {
		if field == "rname" {
			return Address(*at)
		}
		return at.String()
	}
	if when := p.times()[field]; when != nil && *when != 0 {
		return strconv.FormatUint(uint64(*when), 10)
	}
	return ""
}

// Given returns the names of the fields that are given, in the order of Fields.
func (p Parameters) Given() (list []string) {
	for _, field := range Fields {
		if p.Get(field) != "" {
			list = append(list, field)
		}
	}
	return list
}

// String prints the given fields, such as "rname=hostmaster@tides.example minimum=300".
func (p Parameters) String() string {
	var list []string
	for _, field := range p.Given() {
		list = append(list, field+"="+p.Get(field))
	}
	return strings.Join(list, " ")
}

// Over returns p with the fields of below where p has none.
func (p Parameters) Over(below Parameters) Parameters {
	for field, at := range p.names() {
		if at.IsZero() {
			*at = *below.names()[field]
		}
	}
	for field, at := range p.times() {
		if *at == 0 {
			*at = *below.times()[field]
		}
	}
	return p
}

// Only returns the given fields among those that are named.
func (p Parameters) Only(fields []string) Parameters {
	var q Parameters
	for _, field := range fields {
		if at := q.names()[field]; at != nil {
			*at = *p.names()[field]
		} else if at := q.times()[field]; at != nil {
			*at = *p.times()[field]
		}
	}
	return q
}

// Problem returns what is contradictory between the fields, or "": secondaries would stop to answer before they had asked a second time (RFC 1912
// section 2.2).
func (p Parameters) Problem() string {
	if p.Expire > 0 && p.Expire <= p.Refresh+p.Retry {
		return fmt.Sprintf("expire (%d s) must be longer than refresh and retry together (%d s)", p.Expire, p.Refresh+p.Retry)
	}
	return ""
}

// ParseMailbox reads a mail address, or the name that stands for one: the first label is the part before the @ (RFC 1035 section 8).
func ParseMailbox(text string) (dnsname.Name, error) {
	local, domain, address := strings.Cut(text, "@")
	if !address || strings.HasSuffix(local, `\`) {
		return dnsname.Parse(text)
	}
	if !plain(local) {
		return dnsname.Name{}, fmt.Errorf("%q is no mail address that an SOA record can have; write it like hostmaster@tides.example", text)
	}
	at, err := dnsname.Parse(domain)
	if err != nil {
		return at, err
	}
	return at.Child(local)
}

// plain reports whether the part of a mail address before the @ has no character that would have to be quoted.
func plain(local string) bool {
	return local != "" && !strings.ContainsFunc(local, func(c rune) bool { return c <= ' ' || c > '~' || strings.ContainsRune(`@\"`, c) })
}

// Address prints a mailbox as a mail address, or as a name where it has none that could be written.
func Address(mailbox dnsname.Name) string {
	labels := mailbox.Labels()
	if len(labels) < 2 || !plain(labels[0]) {
		return mailbox.String()
	}
	return labels[0] + "@" + strings.TrimSuffix(mailbox.Parent().String(), ".")
}

// Of returns the fields of an SOA record set, whose serial is left out. It is false where the set is not one SOA record.
func Of(set record.Set) (p Parameters, ok bool) {
	if set.Type != record.SOA || len(set.Data) != 1 {
		return p, false
	}
	words := strings.Fields(string(set.Data[0]))
	if len(words) != 7 {
		return p, false
	}
	for i, at := range []*dnsname.Name{&p.MName, &p.RName} {
		name, err := dnsname.Parse(words[i])
		if err != nil {
			return p, false
		}
		if !name.IsRoot() { // as Record writes a name that is not given
			*at = name
		}
	}
	for i, at := range []*uint32{&p.Refresh, &p.Retry, &p.Expire, &p.Minimum} {
		n, err := strconv.ParseUint(words[3+i], 10, 32)
		if err != nil {
			return p, false
		}
		*at = uint32(n)
	}
	p.TTL = set.TTL
	return p, true
}

// Record returns the SOA record set of a zone, with serial 0 in place of the one that its provider keeps. Fields that are not
// given are the root, or 0.
func (p Parameters) Record(zone dnsname.Name) record.Set {
	for _, at := range []*dnsname.Name{&p.MName, &p.RName} {
		if at.IsZero() {
			*at = dnsname.Root
		}
	}
	return record.NewSet(zone, record.SOA, p.TTL, record.Data(fmt.Sprintf("%s %s 0 %d %d %d %d", p.MName, p.RName, p.Refresh, p.Retry, p.Expire, p.Minimum)))
}

// Unnumbered returns the set with serial 0, so that two SOA sets can be compared in all that people decide about. Other sets are returned as they are.
func Unnumbered(set record.Set) record.Set {
	if p, ok := Of(set); ok {
		return p.Record(set.Name)
	}
	return set
}

// Lacking returns the given fields that are not among those named, in the order of Fields.
func (p Parameters) Lacking(taken []string) []string {
	return slices.DeleteFunc(p.Given(), func(field string) bool { return slices.Contains(taken, field) })
}

// Changes returns the fields in which one SOA set differs from another, such as "minimum: 300 -> 600"; "" where either is none.
func Changes(before, after record.Set) string {
	p, was := Of(before)
	q, is := Of(after)
	if !was || !is {
		return ""
	}
	var list []string
	for _, field := range Fields {
		if old, now := p.Get(field), q.Get(field); old != now {
			list = append(list, fmt.Sprintf("%s: %s -> %s", field, old, now))
		}
	}
	return strings.Join(list, "; ")
}
