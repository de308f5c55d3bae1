package change

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// Project returns wanted as this provider can hold it, with a finding for whatever it holds otherwise than asked, or
// cannot hold at all.
func (c Caps) Project(zone dnsname.Name, wanted record.Contents) (record.Contents, []finding.Finding) {
	p := projection{caps: c}
	projected := c.told(zone, wanted).Filter(func(k record.Key) bool {
		if c.Owned(zone, k) {
			p.kept = append(p.kept, k.String())
			return false
		}
		if !c.Holds(k.Type) {
			p.unheld = append(p.unheld, k.String())
			return false
		}
		if c.NameMax > 0 && len(dnsname.Short(k.Name)) > c.NameMax {
			p.long = append(p.long, k.String())
			return false
		}
		return true
	})
	if c.TTLFloor > 0 || c.TTLCeiling > 0 || len(c.TTLSteps) > 0 {
		projected = projected.Map(p.ttl)
	}
	if c.Texts != TextAsWritten || c.TextMax > 0 {
		projected = projected.Map(p.texts)
		projected = projected.Filter(func(k record.Key) bool { return !p.unfit[k] })
	}
	return projected, p.findings(zone)
}

// projection notes what becomes of sets on the way.
type projection struct {
	caps                    Caps
	raised, lowered, joined int
	kept                    []string // sets that the provider has its own of
	unheld                  []string
	long                    []string // names longer than the provider takes
	unfit                   map[record.Key]bool
	unfitNames              []string
}

func (p *projection) ttl(s record.Set) record.Set {
	switch ttl := p.caps.TTL(s.TTL); {
	case ttl > s.TTL:
		s.TTL = ttl
		p.raised++
	case ttl < s.TTL:
		s.TTL = ttl
		p.lowered++
	}
	return s
}

// mostText is how many octets one string holds (RFC 1035 section 3.3).
const mostText = 255

// texts puts the strings of a TXT record together, which leaves what readers of SPF and DKIM make of it the same (RFC
// 7208 section 3.3, RFC 6376 section 3.6.2.2).
func (p *projection) texts(s record.Set) record.Set {
	if s.Type != record.TXT {
		return s
	}
	out := make([]record.Data, len(s.Data))
	for i, d := range s.Data {
		whole := strings.Join(d.Texts(), "")
		tooLong := p.caps.Texts == TextSingle && len(whole) > mostText || p.caps.TextMax > 0 && len(whole) > p.caps.TextMax
		if tooLong || p.caps.Texts != TextAsWritten && !utf8.ValidString(whole) {
			if p.unfit == nil {
				p.unfit = map[record.Key]bool{}
			}
			p.unfit[s.Key()] = true
			p.unfitNames = append(p.unfitNames, s.Key().String())
			return s
		}
		if out[i] = d; p.caps.Texts != TextAsWritten {
			out[i] = record.Data(record.Quoted(whole))
		}
	}
	joined := record.NewSet(s.Name, s.Type, s.TTL, out...)
	if !joined.Equal(s) {
		p.joined++
	}
	return joined
}

func (p *projection) findings(zone dnsname.Name) (found []finding.Finding) {
	add := func(code string, severity finding.Severity, message, remedy string) {
		found = append(found, finding.Finding{Code: code, Severity: severity, Subject: zone.String(), Message: message, Remedy: remedy})
	}
	if p.raised > 0 {
		message := fmt.Sprintf("The provider's least TTL is %d s; %s with less get that.", p.caps.TTLFloor, sets(p.raised))
		if len(p.caps.TTLSteps) > 0 {
			message = fmt.Sprintf("The provider knows only the TTLs %s s; %s get the next longer one.", numbers(p.caps.TTLSteps), sets(p.raised))
		}
		add("ttl-raised", finding.Notice, message, "Nothing to do, unless these names have to change quickly.")
	}
	if p.lowered > 0 {
		add("ttl-lowered", finding.Notice, fmt.Sprintf("The provider's longest TTL is %d s; %s with more get that.", p.caps.TTL(record.MaxTTL), sets(p.lowered)),
			"Nothing to do.")
	}
	if p.joined > 0 {
		add("text-joined", finding.Notice, fmt.Sprintf("The provider keeps a TXT record as one text; the strings of %s are put together, which readers of SPF and DKIM do anyway.", sets(p.joined)), "Nothing to do.")
	}
	if len(p.unfitNames) > 0 {
		add("text-unsupported", finding.Error, fmt.Sprintf("The provider keeps TXT records only so far (%s); not written there: %s.", p.caps.textLimit(), some(p.unfitNames)),
			"Shorten the text (a DKIM key of Ed25519 fits), or place the zone elsewhere.")
	}
	if len(p.kept) > 0 {
		add("apex-not-written", finding.Warning, fmt.Sprintf("The provider keeps what the zone says about its own nameservers; not written there: %s.", some(p.kept)),
			"Remove it from the definition. The desired nameservers are named there by nameservers: or delegate_to:.")
	}
	if len(p.long) > 0 {
		add("name-unsupported", finding.Error, fmt.Sprintf("The provider takes names of at most %d characters; not written there: %s.", p.caps.NameMax, some(p.long)),
			"Use shorter names, or place the zone elsewhere.")
	}
	if len(p.unheld) > 0 {
		add("type-unsupported", finding.Error, fmt.Sprintf("The provider cannot keep records of this type; not written there: %s.", some(p.unheld)),
			"Remove them from the zone, or place it with a provider that can; others may answer differently until then.")
	}
	return found
}

// textLimit is what a TXT record may be.
func (c Caps) textLimit() string {
	words := map[TextForm]string{TextAsWritten: "any strings", TextJoined: "one text of UTF-8", TextSingle: "one text of UTF-8, at most 255 octets"}[c.Texts]
	if c.TextMax > 0 {
		words += fmt.Sprintf(", at most %d octets in all", c.TextMax)
	}
	return words
}

func sets(n int) string {
	if n == 1 {
		return "one record set"
	}
	return fmt.Sprintf("%d record sets", n)
}

// some lists a few of many.
func some(list []string) string {
	if len(list) <= 4 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:4], ", "), len(list)-4)
}

func numbers(list []uint32) string {
	words := make([]string, len(list))
	for i, n := range list {
		words[i] = fmt.Sprint(n)
	}
	return strings.Join(words, ", ")
}
