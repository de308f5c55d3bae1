package profile

import (
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// How names in record data are written that have no final dot: complete, relative to the zone, or relative to the record's own name.
const (
	targetsAbsolute = "absolute"
	targetsInZone   = "zone"
	targetsAtRecord = "record"
)

// targetField is which field of the data is a name, by type.
var targetField = map[string]int{"NS": 0, "CNAME": 0, "DNAME": 0, "PTR": 0, "ALIAS": 0, "MX": 1, "SRV": 3, "SVCB": 1, "HTTPS": 1}

// withTarget writes the name in record data with its final dot. open reports whether it had none though the profile does not say what that means;
// then it is taken for complete.
func withTarget(t record.Type, text, how string, owner, zone dnsname.Name) (out string, open bool) {
	at, has := targetField[t.String()]
	fields := strings.Fields(text)
	if !has || at >= len(fields) || strings.HasSuffix(fields[at], ".") {
		return text, false
	}
	origin := dnsname.Root
	switch how {
	case targetsInZone:
		origin = zone
	case targetsAtRecord:
		origin = owner
	}
	name := fields[at]
	switch {
	case name == "@" && how == targetsAtRecord:
		name = owner.String()
	case name == "@":
		name = zone.String()
	case origin.IsRoot():
		name += "."
	default:
		name += "." + origin.String()
	}
	fields[at] = name
	return strings.Join(fields, " "), how == ""
}

// withoutDot writes record data with its name as many interfaces have it: complete, without final dot.
func withoutDot(t record.Type, data string) string {
	at, has := targetField[t.String()]
	fields := strings.Fields(data)
	if !has || at >= len(fields) || fields[at] == "." {
		return data
	}
	fields[at] = strings.TrimSuffix(fields[at], ".")
	return strings.Join(fields, " ")
}
