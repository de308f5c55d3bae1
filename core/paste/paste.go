// Package paste makes records of what people paste: lines of zone files, tables copied from a page, lists out of a
// mail. Read goes line by line and says of each what it took it for, what it fixed, and what it could not make out. Nothing is
// guessed in silence: whatever was changed on the way is in the notes.
//
// clean.go takes out what word processors and pages put in, table.go reads lines that are no zone-file lines.
package paste

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// Row is what was made of one line, or of several that belong together.
type Row struct {
	Line    int             `json:"line"` // from 1
	Text    string          `json:"text"` // as it was pasted
	Records []record.Record `json:"records"`
	Notes   []string        `json:"notes"`    // what was changed on the way
	Problem string          `json:"problem"`  // why nothing could be made of it; empty where something was
	LeftOut string          `json:"left_out"` // why it is not to be taken over; empty where it is
}

// Bounds on what is read.
const (
	mostText = 4 << 20 // octets
	mostRows = 20_000
)

// Read makes records of pasted text. Records that state no TTL get ttl.
func Read(text string, zone dnsname.Name, ttl uint32) []Row {
	if len(text) > mostText {
		return []Row{{Line: 1, Problem: fmt.Sprintf("This is more than %d MB; import it as a zone file.", mostText>>20), Records: []record.Record{}, Notes: []string{}}}
	}
	r := &reader{zone: zone, ttl: ttl}
	if _, odd := clean(text); odd || slices.ContainsFunc(strings.Split(text, "\n"), endsWithTTL) {
		r.takeLines(text)
		return r.rows
	}
	if whole, faults := zonefile.Read(text, zonefile.Options{Origin: zone, TTL: ttl}); len(faults) == 0 && len(whole.Records) > 0 && len(whole.Records) <= mostRows {
		r.takeZone(text, whole)
		return r.rows
	}
	r.takeLines(text)
	return r.rows
}

func (r *reader) takeLines(text string) {
	for i, line := range strings.Split(text, "\n") {
		if len(r.rows) == mostRows {
			r.rows = append(r.rows, Row{Line: i + 1, Problem: "Reading stops here after too many lines.", Records: []record.Record{}, Notes: []string{}})
			return
		}
		r.takeLine(i+1, line)
	}
}

type reader struct {
	zone    dnsname.Name
	ttl     uint32
	columns []column // of the table that is being read, by its heading; nil where there is none
	rows    []Row
}

func (r *reader) add(row Row) {
	for _, rec := range row.Records {
		if rec.Name == r.zone && (rec.Type == record.SOA || rec.Type == record.NS) {
			row.LeftOut = "It belongs to the provider that the zone comes from; the new one brings its own."
		}
		if !rec.Name.IsAtOrBelow(r.zone) {
			row.LeftOut = fmt.Sprintf("It does not lie in the zone %s.", r.zone.Unicode())
		}
	}
	if row.Records == nil {
		row.Records = []record.Record{}
	}
	if row.Notes == nil {
		row.Notes = []string{}
	}
	r.rows = append(r.rows, row)
}

// takeZone takes a text that reads as a zone file as it stands.
func (r *reader) takeZone(text string, z zonefile.Zone) {
	lines := strings.Split(text, "\n")
	for i, rec := range z.Records {
		row := Row{Line: z.Places[i].Line}
		if row.Line-1 < len(lines) { // $GENERATE and the like make several records of one line
			row.Text = strings.TrimSpace(lines[row.Line-1])
		}
		rec, row.Notes = r.mendRepetition(rec, nil)
		row.Records = []record.Record{rec}
		r.add(row)
	}
}

func (r *reader) takeLine(number int, line string) {
	line = strings.TrimRight(line, "\r")
	row := Row{Line: number, Text: strings.TrimSpace(line)}
	plain, changed := clean(line)
	if changed {
		row.Notes = append(row.Notes, "Quotes, dashes or blanks from a word processor were replaced by plain ones.")
	}
	trimmed := strings.TrimSpace(plain)
	switch {
	case trimmed == "" || strings.HasPrefix(trimmed, ";") || strings.HasPrefix(trimmed, "#") || strings.HasPrefix(trimmed, "//"):
		return
	case isRule(trimmed):
		return
	case strings.HasPrefix(trimmed, "$"):
		row.Problem = "This is a directive of a zone file, and the text as a whole does not read as one."
		r.add(row)
		return
	}
	if columns := heading(cells(plain)); columns != nil {
		r.columns = columns
		return
	}
	if r.columns == nil && !endsWithTTL(plain) {
		parted, split := record.SplitLong(trimmed)
		if one, faults := zonefile.Read(parted, zonefile.Options{Origin: r.zone, TTL: r.ttl}); len(faults) == 0 && len(one.Records) == 1 {
			if split {
				row.Notes = append(row.Notes, "The text has more than 255 octets in one string; it was split into several.")
			}
			rec, notes := r.mendRepetition(one.Records[0], row.Notes)
			row.Records, row.Notes = []record.Record{rec}, notes
			r.add(row)
			return
		}
	}
	if r.goesOn(number, trimmed) {
		return
	}
	r.fromTable(&row, cells(plain))
	r.add(row)
}

// goesOn takes a line that has no type for the rest of a text that a page broke over lines, as it does with keys.
func (r *reader) goesOn(number int, line string) bool {
	if len(r.rows) == 0 || strings.ContainsAny(line, " \t") && !strings.HasPrefix(line, `"`) || len(line) < 8 {
		return false
	}
	last := &r.rows[len(r.rows)-1]
	if last.Line != number-1 || len(last.Records) != 1 || last.Records[0].Type != record.TXT {
		return false
	}
	rec := &last.Records[0]
	data, err := rec.Data.Saying(record.TXT, rec.Data.Says(record.TXT)+strings.Trim(line, `"`), r.zone)
	if err != nil {
		return false
	}
	rec.Data = data
	last.Text += "\n" + line
	last.Line = number
	last.Notes = append(last.Notes, fmt.Sprintf("Line %d goes on with it.", number))
	return true
}

// mendRepetition takes away what a final dot that was forgotten does to full names.
func (r *reader) mendRepetition(rec record.Record, notes []string) (record.Record, []string) {
	if once, ok := r.once(rec.Name); ok {
		notes = append(notes, fmt.Sprintf("%s was read as a full name.", once.Unicode()))
		rec.Name = once
	}
	if target := rec.Data.Target(rec.Type); !target.IsZero() {
		if once, ok := r.once(target); ok {
			if data, err := rec.Data.Saying(rec.Type, once.String(), r.zone); err == nil {
				notes = append(notes, fmt.Sprintf("%s was read as a full name.", once.Unicode()))
				rec.Data = data
			}
		}
	}
	return rec, notes
}

// once returns a name whose end is the zone's name twice with that once.
func (r *reader) once(name dnsname.Name) (dnsname.Name, bool) {
	twice, err := dnsname.ParseRelative(strings.TrimSuffix(r.zone.String(), "."), r.zone)
	if err != nil || r.zone.IsRoot() || !name.IsAtOrBelow(twice) {
		return name, false
	}
	if name == twice {
		return r.zone, true
	}
	short, err := dnsname.ParseRelative(name.Relative(twice), r.zone)
	return short, err == nil
}
