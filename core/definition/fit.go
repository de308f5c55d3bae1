package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"beacon/core/record"
	"beacon/core/zonefile"
)

// Fit finds the kits that a zone could be written with: those whose records, with some values of their parameters, the
// zone has. What Write prints of the zone that it gives, Read reads as the same contents.
func Fit(z Zone, kits []Kit) Zone {
	if z.TTL == 0 {
		z.TTL = zonefile.CommonTTL(z.Contents)
	}
	f := fitter{zone: z, kits: kits, left: map[record.Record]bool{}}
	for _, r := range z.Contents.Records() {
		f.left[r] = true
	}
	// The kit that takes the most records goes first.
	byWeight := slices.Clone(kits)
	slices.SortStableFunc(byWeight, func(a, b Kit) int { return len(f.expand(b, f.sampled(b))) - len(f.expand(a, f.sampled(a))) })
	for _, k := range byWeight {
		for range 16 { // a kit may be used several times
			if !f.fit(k) {
				break
			}
		}
	}
	return f.zone
}

// fitter takes records out of left as kits are found that make them.
type fitter struct {
	zone  Zone
	kits  []Kit
	left  map[record.Record]bool
	steps int
}

// mostSteps bounds the search for the values of one kit.
const mostSteps = 20000

func (f *fitter) fit(k Kit) bool {
	marks := f.marks(k)
	templates := f.expand(k, marks.values)
	if len(templates) == 0 {
		return false
	}
	f.steps = 0
	values := f.search(templates, marks, map[string]string{})
	if values == nil {
		return false
	}
	use := Use{Kit: k.Name, With: map[string]string{}}
	for _, n := range k.Parameters {
		value, found := values[n.Name]
		switch {
		case !found && n.Default == nil:
			return false // it decides nothing, and nobody said it
		case !found:
			values[n.Name] = *n.Default
			continue
		case n.Check(value) != nil:
			return false
		}
		if n.Default == nil || *n.Default != value {
			use.With[n.Name] = value
		}
	}
	records := f.expand(k, values)
	fresh := false
	for _, r := range records {
		if got := f.zone.Contents.Get(r.Key()); got.TTL != r.TTL || !slices.Contains(got.Data, r.Data) {
			return false
		}
		fresh = fresh || f.left[r]
	}
	if !fresh {
		return false
	}
	for _, r := range records {
		delete(f.left, r)
		f.zone.Written = append(f.zone.Written, r)
		f.zone.Origins = append(f.zone.Origins, Origin{Kit: k.Name, File: k.File, Line: k.Line})
	}
	f.zone.Uses = append(f.zone.Uses, use)
	return true
}

// expand returns the records of a kit, none where it cannot be used with these values.
func (f *fitter) expand(k Kit, values map[string]string) (records []record.Record) {
	r := &reader{kits: map[string]*kitSource{}, file: &source{}}
	for _, other := range f.kits {
		src := &kitSource{Kit: other}
		if other.Records != "" {
			src.block = block{text: other.Records, file: &source{name: other.File}, line: 1, column: 1}
		}
		r.kits[other.Name] = src
	}
	for _, m := range r.expandKit(r.kits[k.Name], values, f.zone.Name, f.zone.TTL) {
		records = append(records, m.record)
	}
	if len(r.faults) > 0 {
		return nil
	}
	return records
}

func (f *fitter) sampled(k Kit) map[string]string {
	values := map[string]string{}
	for _, n := range k.Parameters {
		values[n.Name] = n.sample()
	}
	return values
}

// marks are values that nobody would use, by which a parameter is found again in the records of its kit.
type marks struct {
	values  map[string]string
	pattern map[string]string // what a mark stands for, as a regular expression
	names   []string
}

func (f *fitter) marks(k Kit) marks {
	m := marks{values: map[string]string{}, pattern: map[string]string{}}
	for i, n := range k.Parameters {
		value, pattern := fmt.Sprintf("zq%dqz", i), `.*?`
		switch n.Type {
		case NameParameter:
			pattern = `[^ "]+`
		case IPv4Parameter, AddressParameter:
			value, pattern = fmt.Sprintf("192.0.2.%d", 201+i%50), `[0-9a-f:.]+`
		case IPv6Parameter:
			value, pattern = fmt.Sprintf("2001:db8:fade::%x", 0xa1+i), `[0-9a-f:.]+`
		case NumberParameter, TTLParameter:
			value, pattern = strconv.Itoa(54321+i), `[0-9]+`
		}
		m.values[n.Name], m.pattern[n.Name] = value, pattern
		m.names = append(m.names, n.Name)
	}
	return m
}

// search finds values with which each template is a record of the zone; nil if there are none.
func (f *fitter) search(templates []record.Record, m marks, known map[string]string) map[string]string {
	if len(templates) == 0 {
		return known
	}
	t := templates[0]
	expression, groups := f.expression(t, m)
	for _, candidate := range f.zone.Contents.Records() {
		if candidate.Type != t.Type {
			continue
		}
		if f.steps++; f.steps > mostSteps {
			return nil
		}
		found := expression.FindStringSubmatch(lineOf(candidate))
		if found == nil {
			continue
		}
		values := map[string]string{}
		for name, value := range known {
			values[name] = value
		}
		fits := true
		for i, name := range groups {
			value := f.written(name, found[i+1], m)
			if before, said := values[name]; said && before != value {
				fits = false
			}
			values[name] = value
		}
		if fits {
			if all := f.search(templates[1:], m, values); all != nil {
				return all
			}
		}
	}
	return nil
}

func lineOf(r record.Record) string { return fmt.Sprintf("%s %d %s", r.Name, r.TTL, r.Data) }

// expression makes a regular expression of a record with marks in it, whose groups are the named parameters.
func (f *fitter) expression(t record.Record, m marks) (*regexp.Regexp, []string) {
	text := regexp.QuoteMeta(lineOf(t))
	type place struct {
		at   int
		name string
	}
	var places []place
	below := regexp.QuoteMeta("." + f.zone.Name.String())
	for _, name := range m.names {
		mark := regexp.QuoteMeta(m.values[name])
		whole := mark
		if m.pattern[name] == `[^ "]+` {
			whole = mark + below // a relative name was completed; the one that is looked for may stand elsewhere
		}
		for _, form := range []string{whole, mark} {
			for {
				at := strings.Index(text, form)
				if at < 0 {
					break
				}
				// The same length, so that the places of others hold; control characters occur nowhere else.
				text = text[:at] + strings.Repeat("\x01", len(form)-1) + "\x02" + text[at+len(form):]
				places = append(places, place{at, name})
			}
		}
	}
	slices.SortFunc(places, func(a, b place) int { return a.at - b.at })
	var groups []string
	var b strings.Builder
	b.WriteString("^")
	next := 0
	for _, run := range regexp.MustCompile("\x01*\x02").FindAllStringIndex(text, -1) {
		b.WriteString(text[next:run[0]])
		name := places[len(groups)].name
		b.WriteString("(" + m.pattern[name] + ")")
		groups = append(groups, name)
		next = run[1]
	}
	b.WriteString(text[next:] + "$")
	return regexp.MustCompile(b.String()), groups
}

// written returns a name as it is written in the zone: relative below it, with its final dot elsewhere.
func (f *fitter) written(name, value string, m marks) string {
	if m.pattern[name] != `[^ "]+` {
		return value
	}
	if value == f.zone.Name.String() {
		return "@"
	}
	return strings.TrimSuffix(value, "."+f.zone.Name.String())
}
