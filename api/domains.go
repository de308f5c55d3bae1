package api

import (
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/wire"
)

// afterDomain reads where a page of domains begins: behind a name, or behind a time and a name, as domainCursor writes it. It completes the
// filter.
func (k *call) afterDomain(f *wire.DomainFilter) (dnsname.Name, error) {
	switch f.Sort {
	case "", "name":
		f.Sort = ""
		return k.after()
	case "settles_by", "checked_at":
	default:
		return dnsname.Name{}, wire.Problemf(wire.Invalid, "Domains can be sorted by name, settles_by or checked_at, not by %q.", f.Sort)
	}
	cursor := k.Query("cursor")
	if cursor == "" {
		return dnsname.Name{}, nil
	}
	at, text, found := strings.Cut(cursor, " ")
	name, err := dnsname.Parse(text)
	if found && at != "-" && err == nil {
		var t time.Time
		t, err = time.Parse(time.RFC3339Nano, at)
		f.Behind = &t
	}
	if !found || err != nil {
		return name, wire.Problemf(wire.Invalid, "The cursor %q is not one that a page returned. Leave it out to begin with the first page.", cursor)
	}
	return name, nil
}

// domainCursor is where the page behind a domain begins, in a list that is sorted by a time.
func domainCursor(d wire.DomainView, sort string) string {
	at := d.SettlesBy
	if sort == "checked_at" {
		at = d.CheckedAt
	}
	if at == nil {
		return "- " + d.Name.String()
	}
	return at.UTC().Format(time.RFC3339Nano) + " " + d.Name.String()
}
