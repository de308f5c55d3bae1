package zonefile

import (
	"beacon/core/record"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// mostMade bounds how many records all $GENERATE lines of a text may make together.
const mostMade = 1 << 17

// generate makes one record for each number of a range, as several nameservers do:
//
//	$GENERATE 1-20/2 berth-$ 1h A 192.0.2.${10,0,d}
//	$GENERATE 1-20 berth-$ MX "10 mail-$"
//
// A "$" in owner and data stands for the number; ${OFFSET,WIDTH,BASE} adds to it, fills it with zeros, and writes it as d, o, x or X,
// or as n or N: hexadecimal digits from the last to the first with dots between them, as reverse zones have them. Data of several
// words are put into quotes, which are not part of them.
func (r *reader) generate(e *entry, args []field) {
	if len(args) < 4 {
		r.fault(e.place, "$GENERATE takes a range, an owner, a type and data", `write it like "$GENERATE 1-20 berth-$ A 192.0.2.$"`)
		return
	}
	from, to, step, err := parseRange(args[0].text)
	if err != nil {
		r.fault(args[0].place, err.Error(), `write it like "1-20" or "0-100/2"`)
		return
	}
	if n := (to-from)/step + 1; n > uint64(mostMade-*r.made) {
		r.fault(args[0].place, fmt.Sprintf("%d records would be made by this, and %d is the most", n, mostMade-*r.made), "write a smaller range; a wildcard may do what is meant")
		return
	}
	if args = r.rhs(args); args == nil {
		return
	}
	before := len(r.faults)
	fields := make([]field, len(args)-1)
	for n := from; n <= to; n += step {
		*r.made++
		for i, f := range args[1:] {
			text, err := substitute(f.text, n)
			if err != nil {
				r.fault(f.place, err.Error(), "")
				return
			}
			fields[i] = field{text, f.place}
		}
		r.readRecord(&entry{fields: fields, place: e.place})
		if len(r.faults) > before { // the others would be wrong in the same way
			return
		}
	}
}

// rhs takes the quotes off the data of a $GENERATE line; it returns nil where there are more data than one field.
func (r *reader) rhs(args []field) []field {
	at := 2 // behind range and owner
	for at < len(args)-1 {
		word := args[at].text
		at++
		if _, err := record.ParseType(word); err == nil {
			break
		}
	}
	if at < len(args)-1 {
		r.fault(args[at].place, "$GENERATE takes the data as one word", `put all of them in one pair of quotes, such as "10 mail-$"`)
		return nil
	}
	last := args[len(args)-1]
	if text, ok := strings.CutPrefix(last.text, `"`); ok && strings.HasSuffix(text, `"`) {
		args = slices.Clone(args)
		args[len(args)-1].text = strings.ReplaceAll(strings.TrimSuffix(text, `"`), `\"`, `"`)
	}
	return args
}

func parseRange(text string) (from, to, step uint64, err error) {
	bounds, by, stepped := strings.Cut(text, "/")
	first, last, ok := strings.Cut(bounds, "-")
	step = 1
	numbers := []struct {
		text string
		into *uint64
	}{{first, &from}, {last, &to}, {by, &step}}
	for _, n := range numbers {
		if n.into == &step && !stepped {
			break
		}
		if *n.into, err = strconv.ParseUint(n.text, 10, 31); err != nil {
			ok = false
		}
	}
	if !ok || from > to || step == 0 {
		return 0, 0, 0, fmt.Errorf("%q is no range", text)
	}
	return from, to, step, nil
}

// substitute puts a number in the place of each "$" that is not escaped.
func substitute(text string, n uint64) (string, error) {
	if strings.IndexByte(text, '$') < 0 {
		return text, nil
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text):
			if text[i+1] != '$' {
				b.WriteByte('\\')
			}
			i++
			b.WriteByte(text[i])
		case text[i] != '$':
			b.WriteByte(text[i])
		case i+1 < len(text) && text[i+1] == '$':
			i++
			b.WriteByte('$')
		case i+1 < len(text) && text[i+1] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				return "", fmt.Errorf("%q opens ${ and never closes it", text)
			}
			shown, err := modified(text[i+2:i+end], n)
			if err != nil {
				return "", err
			}
			b.WriteString(shown)
			i += end
		default:
			fmt.Fprint(&b, n)
		}
	}
	return b.String(), nil
}

// modified writes a number as OFFSET,WIDTH,BASE says; width and base may be left out.
func modified(how string, n uint64) (string, error) {
	wrong := fmt.Errorf("${%s} is not known; write ${OFFSET,WIDTH,BASE} with base d, o, x, X, n or N", how)
	parts := strings.Split(how, ",")
	offset, err := strconv.ParseInt(parts[0], 10, 32)
	if err != nil || len(parts) > 3 {
		return "", wrong
	}
	width, verb := uint64(0), "d"
	if len(parts) > 1 {
		if width, err = strconv.ParseUint(parts[1], 10, 6); err != nil {
			return "", wrong
		}
	}
	if len(parts) > 2 {
		verb = parts[2]
	}
	value := int64(n) + offset
	if value < 0 {
		return "", fmt.Errorf("${%s} makes %d, which is less than nothing", how, value)
	}
	switch {
	case verb == "n" || verb == "N":
		return nibbles(value, int(width), verb == "N"), nil
	case len(verb) != 1 || !strings.Contains("doxX", verb):
		return "", wrong
	}
	return fmt.Sprintf("%0*"+verb, int(width), value), nil
}

// nibbles writes the hexadecimal digits of n from the last to the first, with dots between them, in at least so many characters.
func nibbles(n int64, width int, upper bool) string {
	digits := "0123456789abcdef"
	if upper {
		digits = "0123456789ABCDEF"
	}
	out := []byte{digits[n&15]}
	for n >>= 4; n > 0 || len(out) < width; n >>= 4 {
		out = append(out, '.')
		if n > 0 || len(out) < width {
			out = append(out, digits[n&15])
		}
	}
	return string(out)
}
