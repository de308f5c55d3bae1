package dnssec

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/miekg/dns"
)

// Records are resource records as they were received, with their signatures among them. In JSON each is a line in
// presentation form.
type Records []dns.RR

// MarshalJSON writes each record as a line.
func (r Records) MarshalJSON() ([]byte, error) {
	lines := make([]string, len(r))
	for i, rr := range r {
		lines[i] = strings.ReplaceAll(rr.String(), "\t", " ")
	}
	return json.Marshal(lines)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (r *Records) UnmarshalJSON(text []byte) error {
	var lines []string
	if err := json.Unmarshal(text, &lines); err != nil {
		return err
	}
	*r = make(Records, 0, len(lines))
	for _, line := range lines {
		rr, err := dns.NewRR(line)
		if err != nil || rr == nil {
			return fmt.Errorf("%q is no record: %w", line, err)
		}
		*r = append(*r, rr)
	}
	return nil
}

// ReadAnchors reads trust anchors as DS lines in master-file form; DNSKEY lines are taken for what their digest would be.
func ReadAnchors(text string) (Records, error) {
	var out Records
	parser := dns.NewZoneParser(strings.NewReader(text), ".", "")
	parser.SetDefaultTTL(3600)
	for rr, more := parser.Next(); more; rr, more = parser.Next() {
		switch rr := rr.(type) {
		case *dns.DS:
			out = append(out, rr)
		case *dns.DNSKEY:
			if ds := rr.ToDS(dns.SHA256); ds != nil && rr.Flags&dns.SEP != 0 {
				out = append(out, ds)
			}
		default:
			return nil, fmt.Errorf("a trust anchor is a DS record, not %s: %s", dns.TypeToString[rr.Header().Rrtype], rr)
		}
	}
	if err := parser.Err(); err != nil {
		return nil, fmt.Errorf("reading trust anchors: %w", err)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("reading trust anchors: they hold no DS record")
	}
	return out, nil
}

// Set returns the records of one name and type, and the signatures over them.
func (r Records) Set(name string, t uint16) (set []dns.RR, sigs []*dns.RRSIG) {
	name = dns.CanonicalName(name)
	for _, rr := range r {
		if dns.CanonicalName(rr.Header().Name) != name {
			continue
		}
		if sig, ok := rr.(*dns.RRSIG); ok && sig.TypeCovered == t {
			sigs = append(sigs, sig)
		} else if rr.Header().Rrtype == t {
			set = append(set, rr)
		}
	}
	return set, sigs
}

// Signed reports whether there is any signature among the records.
func (r Records) Signed() bool {
	for _, rr := range r {
		if rr.Header().Rrtype == dns.TypeRRSIG {
			return true
		}
	}
	return false
}

// Signatures returns all signatures among the records.
func (r Records) Signatures() (sigs []*dns.RRSIG) {
	for _, rr := range r {
		if sig, ok := rr.(*dns.RRSIG); ok {
			sigs = append(sigs, sig)
		}
	}
	return sigs
}

func of[T dns.RR](r Records) (list []T) {
	for _, rr := range r {
		if t, ok := rr.(T); ok {
			list = append(list, t)
		}
	}
	return list
}

// DS returns the DS records among the records.
func (r Records) DS() []*dns.DS { return of[*dns.DS](r) }

// ForDS returns the first CDS or CDNSKEY record that asks the parent for a DS, and not for its removal (RFC 8078 section 4); nil for none.
func (r Records) ForDS() dns.RR {
	for _, rr := range r {
		switch rr := rr.(type) {
		case *dns.CDS:
			if rr.Algorithm != 0 {
				return rr
			}
		case *dns.CDNSKEY:
			if rr.Algorithm != 0 {
				return rr
			}
		}
	}
	return nil
}

// Keys returns the DNSKEY records among the records.
func (r Records) Keys() []*dns.DNSKEY { return of[*dns.DNSKEY](r) }
