package zonefile

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// maxFaults bounds the list of faults; a text with more is probably no zone file at all.
const maxFaults = 500

// Options say what a text leaves out.
type Options struct {
	Origin dnsname.Name // what relative names stand below; $ORIGIN changes it
	TTL    uint32       // seconds, for records before any $TTL or explicit TTL; 0 for none
	File   string       // named in faults
	At     Place        // where the text begins in its file; the zero value means its start
	// Include returns the file that a $INCLUDE line in the file from names; nil where none may be taken in.
	Include func(name, from string) (Included, error)
}

// Zone is what a master file says, in its order.
type Zone struct {
	Records []record.Record
	Places  []Place // of each record, in the same order
}

// Contents sorts the zone's records.
func (z Zone) Contents() record.Contents {
	return record.NewContents(append([]record.Record(nil), z.Records...))
}

// Read reads a master file. Records without fault are given even where others have one; a caller that changes
// anything takes them only if there is no fault.
func Read(text string, opt Options) (Zone, []Fault) {
	r := &reader{opt: opt, origin: opt.Origin, ttl: opt.TTL, hasTTL: opt.TTL > 0, made: new(int)}
	r.readText(text)
	SortFaults(r.faults)
	return r.zone, r.faults
}

func (r *reader) readText(text string) {
	r.lexer = lexer{text: strings.TrimPrefix(text, "\ufeff"), line: 1, faults: r.fault}
	for len(r.faults) < maxFaults && r.lexer.next() {
		r.readEntry(&r.lexer.entry)
	}
	if len(r.faults) >= maxFaults {
		r.fault(r.lexer.here(), "reading stops here after too many faults", "check that this is a zone file")
	}
}

// SortFaults puts faults into the order of their files and places.
func SortFaults(faults []Fault) {
	slices.SortStableFunc(faults, func(a, b Fault) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

type reader struct {
	opt        Options
	lexer      lexer
	zone       Zone
	faults     []Fault
	origin     dnsname.Name
	owner      dnsname.Name // of the record before; zero at the start and after a faulty one
	ownerText  string       // as it was written, and completed with ownerFrom
	ownerFrom  dnsname.Name
	ownerFault bool
	ttl        uint32
	hasTTL     bool
	within     []string // the files that include this one, outermost first
	made       *int     // records that $GENERATE has made so far
}

func (r *reader) fault(at Place, message, remedy string) {
	if r.opt.At.Line > 0 {
		at.Line += r.opt.At.Line - 1
		at.Column += r.opt.At.Column - 1
	}
	r.faults = append(r.faults, Fault{r.opt.File, at.Line, at.Column, message, remedy})
}

func (r *reader) readEntry(e *entry) {
	if strings.HasPrefix(e.fields[0].text, "$") && !e.indented {
		r.directive(e)
		return
	}
	r.readRecord(e)
}

func (r *reader) readRecord(e *entry) {
	before := len(r.faults)
	fields := e.fields
	if !e.indented {
		r.readOwner(fields[0])
		fields = fields[1:]
	} else if r.owner.IsZero() && !r.ownerFault {
		r.fault(e.place, "the first record has no owner name", `begin the line with the name, or with "@" for the zone itself`)
	}
	ttl, typ, data, ok := r.readMiddle(e, fields)
	if !ok {
		return
	}
	parsed, err := record.ParseData(typ, joinFields(data), r.origin)
	if err != nil {
		place := e.fields[len(e.fields)-len(data)-1].place
		if len(data) > 0 {
			place = data[0].place
		}
		r.fault(place, err.Error(), "")
	}
	if len(r.faults) > before || r.owner.IsZero() {
		return
	}
	r.zone.Records = append(r.zone.Records, record.Record{Name: r.owner, TTL: ttl, Type: typ, Data: parsed})
	r.zone.Places = append(r.zone.Places, e.place)
}

func (r *reader) readOwner(f field) {
	if f.text == r.ownerText && r.origin == r.ownerFrom && !r.ownerFault {
		return
	}
	name, err := dnsname.ParseRelative(f.text, r.origin)
	if err == nil && strings.HasPrefix(f.text, `"`) {
		err = fmt.Errorf("%s is in quotes; names are written without", f.text)
	}
	r.owner, r.ownerText, r.ownerFrom, r.ownerFault = name, f.text, r.origin, err != nil
	if err != nil {
		r.fault(f.place, err.Error(), "")
	}
}

// readMiddle reads what stands between owner and data: TTL and class in either order, then the type.
func (r *reader) readMiddle(e *entry, fields []field) (ttl uint32, typ record.Type, data []field, ok bool) {
	explicit, classed := false, false
	for len(fields) > 0 {
		f := fields[0]
		if seconds, isTTL := parseTTL(f.text); isTTL && !explicit {
			ttl, explicit = seconds, true
		} else if class, isClass := classOf(f.text); !isClass {
			break
		} else if class != 1 {
			r.fault(f.place, fmt.Sprintf("class %s is not kept here", strings.ToUpper(f.text)), "only class IN is; remove the record")
			return 0, 0, nil, false
		} else if classed {
			r.fault(f.place, "the record has a second class", "remove one of them")
			return 0, 0, nil, false
		} else {
			classed = true
		}
		fields = fields[1:]
	}
	if len(fields) == 0 {
		r.fault(e.place, "the record has no type", `write owner, TTL, type and data, such as "www 3600 A 192.0.2.1"`)
		return 0, 0, nil, false
	}
	typ, err := record.ParseType(fields[0].text)
	if err != nil {
		r.fault(fields[0].place, err.Error(), "")
		return 0, 0, nil, false
	}
	switch {
	case explicit && !r.hasTTL:
		r.ttl = ttl // RFC 1035 section 5.1: an omitted TTL is the last one stated
	case !explicit && !r.hasTTL && r.ttl == 0:
		r.fault(fields[0].place, "the record has no TTL, and none was stated before", `write a line "$TTL 3600" above, or the TTL in front of the type`)
	case !explicit:
		ttl = r.ttl
	}
	return ttl, typ, fields[1:], true
}

// classOf returns the number of a class: of its mnemonic, or of CLASS followed by it (RFC 3597 section 5).
func classOf(text string) (uint64, bool) {
	switch {
	case len(text) == 2:
		n, ok := classes[strings.ToUpper(text)]
		return n, ok
	case len(text) > 5 && strings.EqualFold(text[:5], "CLASS"):
		n, err := strconv.ParseUint(text[5:], 10, 16)
		return n, err == nil
	}
	return 0, false
}

var classes = map[string]uint64{"IN": 1, "CS": 2, "CH": 3, "HS": 4}

func (r *reader) directive(e *entry) {
	word, args := strings.ToUpper(e.fields[0].text), e.fields[1:]
	switch {
	case word == "$INCLUDE":
		r.include(e, args)
	case word == "$GENERATE":
		r.generate(e, args)
	case word != "$ORIGIN" && word != "$TTL":
		r.fault(e.place, word+" is no directive of master files", "use $ORIGIN, $TTL, $INCLUDE or $GENERATE, or write a record")
	case len(args) != 1:
		r.fault(e.place, word+" takes exactly one value", "")
	case word == "$ORIGIN":
		origin, err := dnsname.ParseRelative(args[0].text, r.origin)
		if err != nil {
			r.fault(args[0].place, err.Error(), "")
			return
		}
		r.origin = origin
	default:
		ttl, err := ParseTTL(args[0].text)
		if err != nil {
			r.fault(args[0].place, err.Error(), "")
			return
		}
		r.ttl, r.hasTTL = ttl, true
	}
}

func joinFields(fields []field) string {
	if len(fields) == 1 {
		return fields[0].text
	}
	var b strings.Builder
	for i, f := range fields {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(f.text)
	}
	return b.String()
}

// ParseTTL reads a TTL in seconds: a number, or numbers with the units s, m, h, d and w, such as "1h30m".
func ParseTTL(text string) (uint32, error) {
	total, ok := parseTTL(text)
	if !ok {
		return 0, fmt.Errorf("%q is no TTL; write seconds, or a number with s, m, h, d or w, up to 2147483647 s", text)
	}
	return total, nil
}

func parseTTL(text string) (uint32, bool) {
	if text == "" {
		return 0, false
	}
	total := uint64(0)
	for rest := text; rest != ""; {
		digits := 0
		for digits < len(rest) && rest[digits] >= '0' && rest[digits] <= '9' {
			digits++
		}
		if digits == 0 {
			return 0, false
		}
		n, err := strconv.ParseUint(rest[:digits], 10, 32)
		if err != nil {
			return 0, false
		}
		unit := uint64(1)
		if digits < len(rest) {
			at := strings.IndexByte("smhdw", rest[digits]|0x20)
			if at < 0 {
				return 0, false
			}
			unit = [...]uint64{1, 60, 3600, 86400, 604800}[at]
			digits++
		}
		total += n * unit
		rest = rest[digits:]
	}
	return uint32(min(total, record.MaxTTL+1)), total <= record.MaxTTL
}
