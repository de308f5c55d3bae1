package record

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/rdata"
)

// Data is a record's data in canonical presentation form: names absolute and in lower case, addresses in their one
// short form, texts quoted. Equal data are equal strings. Make it with ParseData or FromRR only.
type Data string

// ParseData reads record data written as in a master file (RFC 1035 section 5.1), on one line. Relative names are
// completed with origin, which may be the zero Name where none are expected.
func ParseData(t Type, text string, origin dnsname.Name) (Data, error) {
	text = strings.TrimSpace(text)
	if text == "" && t == Type(dns.TypeAPL) { // a list of prefixes may be empty (RFC 3123 section 4)
		return parseGeneral(t, text, origin)
	}
	if err := rdata.Plain(text); err != nil {
		return "", err
	}
	if strings.HasPrefix(text, `\#`) && (len(text) == 2 || text[2] == ' ' || text[2] == '\t') { // octets (RFC 3597 section 5)
		return parseGeneral(t, text, origin)
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

// parseGeneral goes through the wire form, so that every way to write the same data ends in one text.
func parseGeneral(t Type, text string, origin dnsname.Name) (Data, error) {
	if t == ALIAS {
		return "", errors.New(`an ALIAS names a host; it has no form in octets`)
	}
	wire, err := rdata.Parse(uint16(t), text, origin)
	if err != nil {
		return "", fmt.Errorf("%q is no %s data: %w", shortened(text), t, err)
	}
	data, err := rdata.Print(uint16(t), wire)
	if err != nil {
		return "", fmt.Errorf("%q is no %s data: %w", shortened(text), t, err)
	}
	return Data(data), nil
}

// shortened keeps errors readable where data are long.
func shortened(text string) string {
	if len(text) <= 80 {
		return text
	}
	return text[:80] + "…"
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
			return ParseData(t, fields[0]+" "+fields[1]+" "+rdata.Quote(to), origin)
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
