package paste

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// column is what a column of a table holds.
type column string

const (
	colName     column = "name"
	colType     column = "type"
	colTTL      column = "ttl"
	colPriority column = "priority"
	colWeight   column = "weight"
	colPort     column = "port"
	colValue    column = "value"
	colOther    column = ""
)

// headings are the words by which tables name their columns.
var headings = map[string]column{
	"name": colName, "host": colName, "hostname": colName, "host name": colName, "record name": colName, "domain": colName, "owner": colName, "subdomain": colName,
	"type": colType, "record type": colType, "rr type": colType, "record": colType,
	"ttl": colTTL, "time to live": colTTL, "ttl (seconds)": colTTL, "ttl (s)": colTTL,
	"priority": colPriority, "prio": colPriority, "preference": colPriority, "mx priority": colPriority,
	"weight": colWeight, "port": colPort,
	"value": colValue, "data": colValue, "content": colValue, "target": colValue, "points to": colValue, "points at": colValue, "address": colValue,
	"destination": colValue, "answer": colValue, "rdata": colValue, "value/route": colValue, "ip address": colValue, "record data": colValue,
	"class": colOther, "status": colOther, "actions": colOther, "action": colOther, "comment": colOther, "notes": colOther, "edit": colOther, "delete": colOther,
}

var gaps = regexp.MustCompile(` {2,}|\s*\|\s*`)

// cells parts a line of a table: at tabs, at bars, at gaps of several blanks; where there are none of these, at commas or blanks.
func cells(line string) []string {
	line = strings.Trim(line, " |\r")
	var parts []string
	switch {
	case strings.Contains(line, "\t"):
		parts = strings.Split(line, "\t")
	case gaps.MatchString(line):
		parts = gaps.Split(line, -1)
	case strings.Count(line, ",") >= 2 && !strings.Contains(line, " "):
		parts = strings.Split(line, ",")
	case strings.Count(line, ";") >= 2 && !strings.Contains(line, `"`) && !strings.Contains(line, " "):
		parts = strings.Split(line, ";")
	default:
		parts = strings.Fields(line)
	}
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return parts
}

// heading reads a line as the heading of a table; nil where it is none.
func heading(parts []string) []column {
	columns := make([]column, len(parts))
	for i, part := range parts {
		c, known := headings[strings.ToLower(part)]
		if !known && part != "" {
			return nil
		}
		columns[i] = c
	}
	if slices.Contains(columns, colType) && (slices.Contains(columns, colValue) || slices.Contains(columns, colName)) {
		return columns
	}
	return nil
}

// found are the parts of a record as they were found in a line.
type found struct{ name, ttl, priority, weight, port, value string }

// fromTable makes a record of the cells of a line.
func (r *reader) fromTable(row *Row, parts []string) {
	typ, f, ok := r.byHeading(parts)
	if !ok {
		typ, f, ok = byLook(parts)
	}
	if !ok {
		row.Problem = "There is no record type in it that is known, such as A, CNAME or TXT."
		return
	}
	name, err := r.name(f.name, row)
	if err != nil {
		row.Problem = err.Error() + "."
		return
	}
	ttl := r.ttl
	if f.ttl != "" {
		if seconds, ok := ttlOf(f.ttl); ok {
			ttl = seconds
		} else if !strings.HasPrefix(strings.ToLower(f.ttl), "auto") && f.ttl != "-" {
			row.Problem = fmt.Sprintf("%q is no TTL.", f.ttl)
			return
		} else {
			row.Notes = append(row.Notes, fmt.Sprintf("The TTL is left to the provider there (%s); it is %d s here.", f.ttl, ttl))
		}
	}
	text, err := r.value(typ, f, row)
	if err != nil {
		row.Problem = err.Error() + "."
		return
	}
	data, err := record.ParseData(typ, text, r.zone)
	if err != nil {
		row.Problem = err.Error() + "."
		return
	}
	rec, notes := r.mendRepetition(record.Record{Name: name, TTL: ttl, Type: typ, Data: data}, row.Notes)
	row.Records, row.Notes = []record.Record{rec}, notes
}

func (r *reader) byHeading(parts []string) (typ record.Type, f found, ok bool) {
	if len(r.columns) == 0 || len(parts) < 2 {
		return 0, f, false
	}
	for i, part := range parts {
		if i >= len(r.columns) {
			break
		}
		switch r.columns[i] {
		case colName:
			f.name = part
		case colType:
			t, err := record.ParseType(part)
			if err != nil {
				return 0, f, false
			}
			typ = t
		case colTTL:
			f.ttl = part
		case colPriority:
			f.priority = part
		case colWeight:
			f.weight = part
		case colPort:
			f.port = part
		case colValue:
			f.value = strings.TrimSpace(f.value + " " + part)
		}
	}
	return typ, f, typ != 0 && f.value != ""
}

// byLook finds the parts of a record by what they look like: a type, before or behind it the name, a TTL, and the rest.
func byLook(parts []string) (typ record.Type, f found, ok bool) {
	parts = slices.DeleteFunc(slices.Clone(parts), func(p string) bool { return p == "" || p == "IN" })
	at := -1
	for i, part := range parts {
		if t, err := record.ParseType(part); err == nil && i < 4 && (part == strings.ToUpper(part) || i == 0) {
			typ, at = t, i
			break
		}
	}
	if at < 0 {
		return 0, f, false
	}
	before, behind := parts[:at], parts[at+1:]
	if len(before) > 0 {
		f.name = before[0]
		for _, part := range before[1:] {
			if _, isTTL := ttlOf(part); isTTL {
				f.ttl = part
			}
		}
	} else if len(behind) > 0 {
		f.name, behind = behind[0], behind[1:]
	}
	if last := len(behind) - 1; last > 0 && f.ttl == "" && looksLikeTTL(behind[last]) && !(typ == record.MX && !slices.ContainsFunc(strings.Fields(strings.Join(behind[:last], " ")), isNumber)) { // else it is the preference
		f.ttl, behind = behind[last], behind[:last]
	} else if len(behind) > 1 && f.ttl == "" && looksLikeTTL(behind[0]) && typ != record.MX && typ != record.SRV {
		f.ttl, behind = behind[0], behind[1:]
	}
	f.value = strings.Join(behind, " ")
	return typ, f, len(behind) > 0
}

// endsWithTTL reports a row of a table whose last column is a TTL: a zone file has it in front of the type, and would take it for
// one more text of a TXT record.
func endsWithTTL(line string) bool {
	if !strings.Contains(line, "\t") {
		return false
	}
	parts := cells(line)
	at := slices.IndexFunc(parts, func(p string) bool { _, err := record.ParseType(p); return err == nil && p == strings.ToUpper(p) })
	return at >= 0 && len(parts) >= at+3 && looksLikeTTL(parts[len(parts)-1]) && !slices.ContainsFunc(parts[:at], looksLikeTTL)
}

func looksLikeTTL(text string) bool {
	lower := strings.ToLower(text)
	_, ok := ttlOf(text)
	return strings.HasPrefix(lower, "auto") || ok
}

var worded = regexp.MustCompile(`^([0-9]+)\s*(s|sec|secs|seconds?|m|mins?|minutes?|h|hrs?|hours?|d|days?|w|weeks?)\.?$`)

// ttlOf reads a TTL as zone files and pages write it: 300, 5m, 5 minutes, 1 hour.
func ttlOf(text string) (uint32, bool) {
	if m := worded.FindStringSubmatch(strings.ToLower(text)); m != nil {
		text = m[1] + m[2][:1]
	}
	seconds, err := zonefile.ParseTTL(text)
	return seconds, err == nil
}

// name reads an owner as pages show it: relative, in full with or without a final dot, "@" or nothing for the zone.
func (r *reader) name(text string, row *Row) (dnsname.Name, error) {
	whole := strings.TrimSuffix(r.zone.String(), ".")
	lower := strings.ToLower(strings.TrimSuffix(text, "."))
	if ascii, err := dnsname.ToASCII(lower); err == nil {
		lower = ascii
	}
	switch {
	case text == "" || text == "@" || text == "-" || lower == whole:
		return r.zone, nil
	case strings.HasSuffix(lower, "."+whole):
		return dnsname.ParseRelative(strings.TrimSuffix(lower, "."+whole), r.zone)
	case strings.Contains(text, "://"):
		host := hostOf(text)
		row.Notes = append(row.Notes, fmt.Sprintf("Of the web address %s only the host was used.", text))
		return r.name(host, row)
	}
	return dnsname.ParseRelative(text, r.zone)
}

// hostOf takes the scheme, the path and the port off a web address.
func hostOf(text string) string {
	if _, rest, found := strings.Cut(text, "://"); found {
		text = rest
	}
	text, _, _ = strings.Cut(text, "/")
	if host, port, found := strings.Cut(text, ":"); found && !strings.Contains(port, ":") {
		text = host
	}
	return text
}

// value puts the data together as they are written in a zone file.
func (r *reader) value(typ record.Type, f found, row *Row) (string, error) {
	value := f.value
	switch typ {
	case record.TXT:
		if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
			return value, nil
		}
		return record.Quoted(strings.Trim(value, `"`)), nil
	case record.A, record.AAAA:
		if strings.Contains(value, "://") || strings.HasSuffix(value, "/") {
			row.Notes = append(row.Notes, fmt.Sprintf("Of the web address %s only the address was used.", value))
			value = strings.Trim(hostOf(value), "[]/")
		}
		return value, nil
	case record.CNAME, record.NS, record.PTR, record.DNAME, record.ALIAS:
		return r.host(value, row), nil
	case record.MX, record.SRV:
		numbers := []string{f.priority}
		if typ == record.SRV {
			numbers = []string{f.priority, f.weight, f.port}
		}
		fields := strings.Fields(value)
		if typ == record.MX && len(fields) == 2 && !isNumber(fields[0]) && isNumber(fields[1]) {
			fields[0], fields[1] = fields[1], fields[0] // "mail.example 10"
		}
		if len(fields) == 0 {
			return "", fmt.Errorf("the host is missing")
		}
		host := r.host(fields[len(fields)-1], row)
		inside := fields[:len(fields)-1]
		var out []string
		for _, n := range numbers {
			if n == "" && len(inside) > 0 {
				n, inside = inside[0], inside[1:]
			}
			if n == "" && typ == record.MX {
				n = "10"
				row.Notes = append(row.Notes, "No preference is given; 10 was used.")
			}
			out = append(out, n)
		}
		return strings.Join(append(append(out, inside...), host), " "), nil
	}
	return value, nil
}

func isNumber(text string) bool { _, err := strconv.ParseUint(text, 10, 16); return err == nil }

// host reads the name of a host as pages show it: in full, with or without its final dot; a single label is relative.
func (r *reader) host(text string, row *Row) string {
	if strings.Contains(text, "://") || strings.HasSuffix(text, "/") {
		row.Notes = append(row.Notes, fmt.Sprintf("Of the web address %s only the host was used.", text))
		text = hostOf(text)
	}
	if text == "@" || strings.HasSuffix(text, ".") || !strings.Contains(text, ".") {
		return text
	}
	return text + "."
}
