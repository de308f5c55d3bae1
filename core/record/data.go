package record

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
)

// Data is a record's data in canonical presentation form: names absolute and in lower case, addresses in their one
// short form, texts quoted. Equal data are equal strings. Make it with ParseData or FromRR only.
type Data string

// ParseData reads record data written as in a master file (RFC 1035 section 5.1), on one line. Relative names are
// completed with origin, which may be the zero Name where none are expected.
func ParseData(t Type, text string, origin dnsname.Name) (Data, error) {
	text = strings.TrimSpace(text)
	if err := checkPlain(text); err != nil {
		return "", err
	}
	if strings.HasPrefix(text, `\#`) && (len(text) == 2 || text[2] == ' ' || text[2] == '\t') { // octets (RFC 3597 section 5)
		data, err := parseGeneral(t, text, origin)
		if err == nil && ownForm(t) {
			data, err = ParseData(t, string(data), dnsname.Root)
		}
		return data, err
	}
	switch t {
	case A, AAAA:
		return parseAddress(t, text)
	case NS, CNAME, PTR, DNAME, ALIAS:
		name, err := parseName(text, origin)
		return Data(name), err
	case MX:
		return parseMX(text, origin)
	case TXT:
		if plainTexts(text) {
			return Data(text), nil
		}
	}
	return parseGeneral(t, text, origin)
}

// plainTexts reports quoted strings without any escape that stand as they are in canonical form.
func plainTexts(text string) bool {
	for {
		if len(text) < 2 || text[0] != '"' {
			return false
		}
		end := 1
		for end < len(text) && text[end] != '"' {
			if c := text[end]; c < ' ' || c > '~' || c == '\\' {
				return false
			}
			end++
		}
		if end == len(text) || end > 256 {
			return false
		}
		if text = text[end+1:]; text == "" {
			return true
		}
		if text[0] != ' ' {
			return false
		}
		text = text[1:]
	}
}

// ownForm reports the types whose data are written here, not by the library: their form must not depend on the way they came.
func ownForm(t Type) bool {
	switch t {
	case A, AAAA, NS, CNAME, PTR, DNAME, MX:
		return true
	}
	return false
}

// checkPlain refuses what would end the record early in a master file.
func checkPlain(text string) error {
	if text == "" {
		return errors.New("the data is missing")
	}
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case c == '\n' || c == '\r':
			return errors.New("the data contains a line break; write it on one line")
		case !quoted && (c == ';' || c == '(' || c == ')'):
			return fmt.Errorf("the data contains %q outside quotes; put quotes around the text", string(c))
		}
	}
	if quoted {
		return errors.New("a quote is opened and never closed")
	}
	return nil
}

func parseAddress(t Type, text string) (Data, error) {
	addr, err := netip.ParseAddr(text)
	switch {
	case err != nil && strings.Contains(text, "://"):
		return "", fmt.Errorf("%q is a web address; write only the IP address", text)
	case err != nil || addr.Zone() != "":
		return "", fmt.Errorf("%q is no IP address", text)
	case t == A && !addr.Is4():
		return "", fmt.Errorf("%q is an IPv6 address; use type AAAA", text)
	case t == AAAA && addr.Is4():
		return "", fmt.Errorf("%q is an IPv4 address; use type A", text)
	case t == AAAA && addr.Is4In6():
		v4 := addr.As4()
		return Data(fmt.Sprintf("::ffff:%d.%d.%d.%d", v4[0], v4[1], v4[2], v4[3])), nil
	}
	return Data(addr.String()), nil
}

func parseName(text string, origin dnsname.Name) (string, error) {
	name, err := dnsname.ParseRelative(text, origin)
	if (strings.Contains(text, "/") || strings.Contains(name.Key(), "/")) && (webAddress.MatchString(text) || webAddress.MatchString(name.String())) {
		return "", fmt.Errorf("%q looks like a web address; write only the host name", text)
	}
	return name.String(), err
}

// webAddress is a scheme, or a host with a path. A slash alone is none: names of classless reverse zones have them (RFC 2317).
var webAddress = regexp.MustCompile(`://|/$|\.[A-Za-z]{2,}\.?/`)

func parseMX(text string, origin dnsname.Name) (Data, error) {
	fields := strings.Fields(text)
	if len(fields) != 2 {
		return "", fmt.Errorf("%q is no MX data; write a preference and a host name, such as \"10 mail.example.\"", text)
	}
	preference, err := strconv.ParseUint(fields[0], 10, 16)
	if err != nil {
		return "", fmt.Errorf("%q is no MX preference; it is a number from 0 to 65535", fields[0])
	}
	name, err := parseName(fields[1], origin)
	return Data(strconv.FormatUint(preference, 10) + " " + name), err
}

func parseGeneral(t Type, text string, origin dnsname.Name) (Data, error) {
	if t == ALIAS {
		return "", errors.New(`an ALIAS names a host; it has no form in octets`)
	}
	from := origin.String()
	if holdsNames[t] {
		text = asciiNames(text)
	}
	parser := dns.NewZoneParser(strings.NewReader(". 0 IN "+t.String()+" "+text), from, "")
	rr, ok := parser.Next()
	if err := parser.Err(); err != nil || !ok {
		return "", fmt.Errorf("%q is no %s data%s", text, t, libraryReason(err))
	}
	data, err := canonicalData(rr)
	if err != nil {
		return "", fmt.Errorf("%q is no %s data: %w", text, t, err)
	}
	return data, readsBack(t, text, data)
}

// readsBack refuses data that the library prints in a way that it would not read again as the same.
func readsBack(t Type, text string, data Data) error {
	rr, err := dns.NewRR(". 0 IN " + t.String() + " " + string(data))
	if err == nil && rr != nil && strings.TrimSpace(string(data)) == string(data) {
		again, wrong := canonicalData(rr)
		if wrong == nil && again == data {
			return nil
		}
	}
	return fmt.Errorf("%q is no %s data that could be written and read back", text, t)
}

// holdsNames are the types, among those that the library reads, whose data hold host names.
var holdsNames = map[Type]bool{SOA: true, SRV: true, Type(dns.TypeRP): true, Type(dns.TypeNAPTR): true, Type(dns.TypeHTTPS): true, Type(dns.TypeSVCB): true,
	Type(dns.TypeKX): true, Type(dns.TypeAFSDB): true}

// asciiNames turns U-labels outside quotes into A-labels (RFC 5891); what is no name stays for the reader to refuse.
func asciiNames(text string) string {
	if !strings.ContainsFunc(text, func(c rune) bool { return c > 127 }) {
		return text
	}
	fields := strings.Fields(text)
	for i, f := range fields {
		if !strings.Contains(f, `"`) {
			if ascii, err := dnsname.ToASCII(f); err == nil {
				fields[i] = ascii
			}
		}
	}
	return strings.Join(fields, " ")
}

// libraryReason keeps what the parser says about the data and drops its position, which is ours to give.
func libraryReason(err error) string {
	if err == nil {
		return ""
	}
	reason := strings.TrimPrefix(err.Error(), "dns: ")
	if cut := strings.LastIndex(reason, " at line"); cut >= 0 {
		reason = reason[:cut]
	}
	return ": " + reason
}

// canonicalData goes through the wire format, so that every way to write the same data ends in one text.
func canonicalData(rr dns.RR) (Data, error) {
	buf := make([]byte, dns.Len(rr)+64)
	end, err := dns.PackRR(rr, buf, 0, nil, false)
	if err != nil {
		return "", err
	}
	back, _, err := dns.UnpackRR(buf[:end], 0)
	if err != nil {
		return "", err
	}
	lowerNames(back)
	text := strings.TrimPrefix(back.String(), back.Header().String())
	if generic, ok := back.(*dns.RFC3597); ok {
		text = fmt.Sprintf(`\# %d %s`, len(generic.Rdata)/2, generic.Rdata)
	}
	if text == "" {
		return "", errors.New("the data is missing")
	}
	switch back := back.(type) {
	case *dns.CAA: // the library leaves a backslash in these as it is, and would read it as an escape
		text = fmt.Sprintf("%d %s %s", back.Flag, back.Tag, quote(back.Value))
	case *dns.URI:
		text = fmt.Sprintf("%d %d %s", back.Priority, back.Weight, quote(back.Target))
	case *dns.NSEC, *dns.NSEC3, *dns.CSYNC, *dns.NXT:
		if slices.Contains(strings.Fields(text), "None") { // type 0, which has no name that could be read back
			return "", errors.New("it lists type 0, which is none")
		}
	}
	return Data(text), nil
}

// lowerNames lowers the names in data of those types whose canonical form asks for it (RFC 4034 section 6.2,
// less the types that RFC 6840 section 5.1 takes out).
func lowerNames(rr dns.RR) {
	lower := func(names ...*string) {
		for _, n := range names {
			*n = dns.CanonicalName(*n)
		}
	}
	switch rr := rr.(type) {
	case *dns.NS:
		lower(&rr.Ns)
	case *dns.CNAME:
		lower(&rr.Target)
	case *dns.SOA:
		lower(&rr.Ns, &rr.Mbox)
	case *dns.PTR:
		lower(&rr.Ptr)
	case *dns.MX:
		lower(&rr.Mx)
	case *dns.SRV:
		lower(&rr.Target)
	case *dns.DNAME:
		lower(&rr.Target)
	case *dns.RP:
		lower(&rr.Mbox, &rr.Txt)
	case *dns.NAPTR:
		lower(&rr.Replacement)
	case *dns.KX:
		lower(&rr.Exchanger)
	case *dns.AFSDB:
		lower(&rr.Hostname)
	case *dns.RT:
		lower(&rr.Host)
	}
}

// Target is the host name that data of type t points at, for the types that point at one; else the zero Name.
func (d Data) Target(t Type) dnsname.Name {
	text := string(d)
	switch t {
	case MX:
		_, text, _ = strings.Cut(text, " ")
	case SRV:
		text = text[strings.LastIndexByte(text, ' ')+1:]
	case NS, CNAME, PTR, DNAME, ALIAS:
	default:
		return dnsname.Name{}
	}
	name, _ := dnsname.Parse(text)
	return name
}

// Says is what data of type t point at or say, as people look for it: the host without its final dot, a text without quotes,
// the value of a CAA record; else the data as they are.
func (d Data) Says(t Type) string {
	switch t {
	case TXT:
		return strings.Join(d.Texts(), "")
	case CAA, Type(dns.TypeURI):
		if fields := tokensOf(string(d)); len(fields) == 3 {
			return strings.Join(Data(fields[2]).Texts(), "")
		}
	}
	if target := d.Target(t); !target.IsZero() && !target.IsRoot() {
		return strings.TrimSuffix(target.String(), ".")
	}
	return string(d)
}

// Saying returns data of type t that point at or say something else, and are the same for the rest. Relative names are completed
// with origin.
func (d Data) Saying(t Type, to string, origin dnsname.Name) (Data, error) {
	switch target := d.Target(t); {
	case t == TXT:
		return ParseData(t, Quoted(to), origin)
	case t == CAA, t == Type(dns.TypeURI):
		if fields := tokensOf(string(d)); len(fields) == 3 {
			return ParseData(t, fields[0]+" "+fields[1]+" "+quote(to), origin)
		}
	case !target.IsZero():
		return ParseData(t, strings.TrimSuffix(string(d), target.String())+to, origin)
	}
	return ParseData(t, to, origin)
}

// Texts returns the strings of TXT-like data (RFC 1035 section 3.3.14), without quotes and escapes.
func (d Data) Texts() (list []string) {
	var b strings.Builder
	quoted, open := false, false
	for i := 0; i < len(d); i++ {
		switch c := d[i]; {
		case c == '\\' && i+3 < len(d) && d[i+1] >= '0' && d[i+1] <= '2':
			n, err := strconv.ParseUint(string(d[i+1:i+4]), 10, 8)
			if err == nil {
				b.WriteByte(byte(n))
			}
			i, open = i+3, true
		case c == '\\' && i+1 < len(d):
			i++
			b.WriteByte(d[i])
			open = true
		case c == '"':
			quoted, open = !quoted, true
		case c == ' ' && !quoted:
			if open {
				list = append(list, b.String())
			}
			b.Reset()
			open = false
		default:
			b.WriteByte(c)
			open = true
		}
	}
	if open {
		list = append(list, b.String())
	}
	return list
}
