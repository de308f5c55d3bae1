package zones

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// Search finds records of what zones should contain, page by page; next is the cursor of the following page.
func (s *Zones) Search(ctx context.Context, by access.Caller, r wire.SearchRequest) (hits []wire.Hit, next string, err error) {
	queries, err := queriesOf(r)
	if err != nil {
		return nil, "", err
	}
	// The queries are gone through one after the other: the cursor begins with the number of the one that it belongs to.
	at, after := 0, r.Cursor
	if number, rest, found := strings.Cut(r.Cursor, "."); found {
		if at, err = strconv.Atoi(number); err != nil || at < 0 || at >= len(queries) {
			return nil, "", wire.Problemf(wire.Invalid, "The cursor is none of this search.")
		}
		after = rest
	}
	hits = []wire.Hit{}
	scope := access.Where(by, access.See)
	for ; at < len(queries); at, after = at+1, "" {
		q := queries[at]
		q.In = &scope
		q.After, q.Limit = after, r.Limit-len(hits)
		found, more, err := s.store.SearchNow(ctx, q)
		switch {
		case errors.Is(err, store.ErrTooBroad):
			return nil, "", wire.Problemf(wire.Invalid, "Too many records fit one of the criteria and too few the others to be found within %s. Give an exact name, value or address.", store.RowsAge)
		case err != nil:
			return nil, "", logbook.Explain(err)
		}
		for _, h := range found {
			hits = append(hits, wire.Hit(h))
		}
		if more != "" {
			return hits, fmt.Sprintf("%d.%s", at, more), nil
		}
		if len(hits) >= r.Limit && at+1 < len(queries) {
			return hits, fmt.Sprintf("%d.", at+1), nil
		}
	}
	return hits, "", nil
}

// queriesOf reads the criteria of a search.
func queriesOf(r wire.SearchRequest) ([]store.Query, error) {
	var q store.Query
	var err error
	if r.Zone != "" {
		if q.Zone, err = dnsname.Parse(r.Zone); err != nil {
			return nil, wire.Problemf(wire.Invalid, "zone: %s.", err)
		}
	}
	if r.Type != "" {
		if q.Type, err = record.ParseType(r.Type); err != nil {
			return nil, wire.Problemf(wire.Invalid, "type: %s.", err)
		}
	}
	if q.Name, err = nameMatch(r.Name); err != nil {
		return nil, wire.Problemf(wire.Invalid, "name: %s.", err)
	}
	if q.Value, err = valueMatch(r.Value); err != nil {
		return nil, wire.Problemf(wire.Invalid, "value: %s.", err)
	}
	if r.Address != "" {
		if q.Address, err = prefixOf(r.Address); err != nil {
			return nil, wire.Problemf(wire.Invalid, "address: %q is neither an address nor a network; write it like 192.0.2.40 or 192.0.2.0/24.", r.Address)
		}
	}
	if q.TTLLeast, q.TTLMost, err = readTTLs(r.TTL); err != nil {
		return nil, err
	}
	if r.Text == "" {
		if q == (store.Query{}) {
			return nil, wire.Problemf(wire.Invalid, "Say what to look for: a name, a value, a type, an address or a TTL.")
		}
		return []store.Query{q}, nil
	}
	if p, err := prefixOf(r.Text); err == nil && !q.Address.IsValid() {
		q.Address = p
		return []store.Query{q}, nil
	}
	byName, byValue := q, q
	if byName.Name, err = nameMatch(r.Text); err == nil && q.Name.IsZero() {
		byValue.Value, err = valueMatch(r.Text)
	}
	if err != nil {
		return nil, wire.Problemf(wire.Invalid, "%s.", err)
	}
	return []store.Query{byName, byValue}, nil
}

func prefixOf(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.ParsePrefix(text)
}

func starred(text string) (m store.Match, err error) {
	m.Text = text
	switch stars := strings.Count(text, "*"); {
	case stars == 0 || text == "*":
	case stars == 1 && strings.HasSuffix(text, "*"):
		m.Text, m.Begins = strings.TrimSuffix(text, "*"), true
	case stars == 1 && strings.HasPrefix(text, "*"):
		m.Text, m.Ends = strings.TrimPrefix(text, "*"), true
	default:
		return m, fmt.Errorf(`%q: "*" is allowed once, at the beginning or the end`, text)
	}
	return m, nil
}

func nameMatch(text string) (store.Match, error) {
	if ascii, err := dnsname.ToASCII(text); err == nil {
		text = ascii
	}
	m, err := starred(strings.ToLower(text))
	if len(m.Text) > 1 && !m.Begins {
		m.Text = strings.TrimSuffix(m.Text, ".")
	}
	return m, err
}

func valueMatch(text string) (store.Match, error) {
	m, err := starred(text)
	if len(m.Text) > 1 && !m.Begins && !strings.Contains(m.Text, " ") {
		m.Text = strings.TrimSuffix(m.Text, ".")
	}
	return m, err
}

// readTTLs reads "300", "<300", "<=300", ">300" or ">=300" as bounds.
func readTTLs(text string) (least, most *uint32, err error) {
	if text == "" {
		return nil, nil, nil
	}
	digits := strings.TrimLeft(text, "<>=")
	n, err := strconv.ParseUint(strings.TrimSpace(digits), 10, 31)
	if err != nil {
		return nil, nil, wire.Problemf(wire.Invalid, "ttl: %q is no TTL; write seconds, or seconds behind <, <=, > or >=.", text)
	}
	at, below, above := uint32(n), uint32(max(n, 1)-1), uint32(n+1)
	switch text[:len(text)-len(digits)] {
	case "", "=":
		return &at, &at, nil
	case "<":
		return nil, &below, nil
	case "<=":
		return nil, &at, nil
	case ">":
		return &above, nil, nil
	case ">=":
		return &at, nil, nil
	}
	return nil, nil, wire.Problemf(wire.Invalid, "ttl: %q is no TTL; write seconds, or seconds behind <, <=, > or >=.", text)
}
