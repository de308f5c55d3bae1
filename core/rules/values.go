package rules

import (
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/finding"
	"beacon/core/record"
)

// valueRules are about what stands in records: addresses, TTLs, texts, certificates.
var valueRules = []rule{
	{Rule: Rule{"unreachable-address", finding.Warning, "An address is not reachable from outside: private, loopback, link-local, reserved, documentation.", "Write the public address, or keep the name out of the public zone."},
		types: []record.Type{record.A, record.AAAA},
		set: func(v *view, s record.Set, say sayer) {
			for _, d := range s.Data {
				if addr, err := netip.ParseAddr(string(d)); err == nil {
					if why := dynaddr.Unbelievable(addr, v.Believe); why != "" {
						say(s.Key(), string(d)+" "+why+".")
					}
				}
			}
		}},
	{Rule: Rule{"ttl-too-large", finding.Error, "A TTL is larger than the protocol allows (RFC 2181 section 8).", "Use a TTL of at most a week, 604800."},
		set: func(_ *view, s record.Set, say sayer) {
			if s.TTL > record.MaxTTL {
				say(s.Key(), fmt.Sprintf("The TTL of %d s is more than the protocol allows (2147483647).", s.TTL), withTTL(s, 604800))
			}
		}},
	{Rule: Rule{"ttl-zero", finding.Warning, "A TTL of 0 lets no cache keep the answer: every visitor waits, and the nameservers answer all of it.", "Use 60 or more; 300 is short enough for most changes."},
		set: func(_ *view, s record.Set, say sayer) {
			if s.TTL == 0 {
				say(s.Key(), "No cache may keep this answer.", withTTL(s, 300))
			}
		}},
	{Rule: Rule{"ttl-over-week", finding.Notice, "A TTL is longer than a week: a change takes that long to reach every cache.", "Use a day, 86400, or less."},
		set: func(_ *view, s record.Set, say sayer) {
			if s.TTL > 604800 && s.TTL <= record.MaxTTL {
				say(s.Key(), fmt.Sprintf("A change takes %d days to reach every cache.", s.TTL/86400), withTTL(s, 86400))
			}
		}},
	{Rule: Rule{"repeated-record", finding.Notice, "The same record is written more than once; it counts once.", "Remove the repetitions."},
		zone: func(v *view, say sayer) {
			if len(v.Written) == v.Contents.Len() {
				return
			}
			eachRepetition(v.Written, func(a, b record.Record) {
				if a.TTL == b.TTL {
					say(a.Key(), fmt.Sprintf("%s is written more than once.", a.Data))
				}
			})
		}},
	{Rule: Rule{"unequal-ttls", finding.Warning, "The records of one set have different TTLs, which a set cannot have (RFC 2181 section 5.2); the least one counts.", "Write the same TTL at each."},
		zone: func(v *view, say sayer) {
			if len(v.Written) == v.Contents.Len() && sumOfTTLs(v.Written) == sumOfTTLs(v.Contents.Records()) {
				return // the least of a set counts, so that the sum would be less
			}
			first := map[record.Key]uint32{}
			said := map[record.Key]bool{}
			for _, r := range v.Written {
				ttl, seen := first[r.Key()]
				switch {
				case !seen:
					first[r.Key()] = r.TTL
				case ttl != r.TTL && !said[r.Key()]:
					said[r.Key()] = true
					say(r.Key(), fmt.Sprintf("One has %d s, another %d s; %d s counts.", ttl, r.TTL, min(ttl, r.TTL)))
				}
			}
		}},
	{Rule: Rule{"curly-quotes", finding.Warning, "A text has curly quotes, a no-break space or a character that cannot be seen, as word processors put them in.", "Type the text again with plain quotes and blanks."},
		types: txt,
		set: func(v *view, s record.Set, say sayer) {
			for _, text := range v.texts {
				if strings.ContainsFunc(text, fromWordProcessor) {
					say(s.Key(), "The text has a quote, blank or invisible character that a word processor made.", plainText(s))
					return
				}
			}
		}},
	{Rule: Rule{"quotes-in-text", finding.Warning, "A text begins and ends with a quote that is part of it: it was pasted with its quotes, probably.", "Leave the outer quotes out."},
		types: txt,
		set: func(v *view, s record.Set, say sayer) {
			for _, text := range v.texts {
				if len(text) > 1 && text[0] == '"' && text[len(text)-1] == '"' {
					say(s.Key(), "The quotes are part of the text.")
				}
			}
		}},
	{Rule: Rule{"caa-unknown-tag", finding.Warning, "A CAA record has a tag that is not known (RFC 8659, RFC 9495).", "Use issue, issuewild, issuemail, issuevmc or iodef."},
		types: []record.Type{record.CAA},
		set: eachCAA(func(s record.Set, tag, _ string, say sayer) {
			if !slices.Contains([]string{"issue", "issuewild", "issuemail", "issuevmc", "iodef", "contactemail", "contactphone"}, tag) {
				say(s.Key(), fmt.Sprintf("%q is no tag of CAA.", tag))
			}
		})},
	{Rule: Rule{"caa-value", finding.Warning, "The value of a CAA record is not one that its tag can have.", "issue and issuewild name a certificate authority's domain, or only “;” for none; iodef is a mailto: or https: address."},
		types: []record.Type{record.CAA},
		set: eachCAA(func(s record.Set, tag, value string, say sayer) {
			issuer, _, _ := strings.Cut(value, ";")
			issuer = strings.TrimSpace(issuer)
			switch tag {
			case "issue", "issuewild":
				if _, err := dnsname.Parse(issuer); issuer != "" && (err != nil || !strings.Contains(issuer, ".") || strings.ContainsAny(issuer, ":/ ")) {
					say(s.Key(), fmt.Sprintf("%q is no domain of a certificate authority.", issuer))
				}
			case "iodef":
				if u, err := url.Parse(value); err != nil || !slices.Contains([]string{"mailto", "https", "http"}, u.Scheme) {
					say(s.Key(), fmt.Sprintf("%q is no address that reports can be sent to.", value))
				}
			}
		})},
	{Rule: Rule{"caa-forbids-all", finding.Notice, "CAA records let no authority issue a certificate, and the name has an address.", "Name the authority whose certificates are used, if there is one."},
		types: []record.Type{record.CAA},
		set: func(v *view, s record.Set, say sayer) {
			issues, allowed := false, false
			eachCAA(func(_ record.Set, tag, value string, _ sayer) {
				issues = issues || tag == "issue"
				allowed = allowed || tag == "issue" && strings.TrimSpace(strings.Split(value, ";")[0]) != ""
			})(v, s, say)
			if issues && !allowed && v.hasAddress(s.Name) {
				say(s.Key(), "No authority may issue a certificate for this name or those below it.")
			}
		}},
	{Rule: Rule{"srv-owner", finding.Warning, "An SRV record is not at _service._protocol (RFC 2782).", "Let its name begin with _service._protocol, such as _submission._tcp."},
		types: []record.Type{record.SRV},
		set: func(_ *view, s record.Set, say sayer) {
			if l := s.Name.Labels(); len(l) < 2 || !strings.HasPrefix(l[0], "_") || !strings.HasPrefix(l[1], "_") {
				say(s.Key(), "Clients do not look for services at this name.")
			}
		}},
	{Rule: Rule{"tlsa-owner", finding.Warning, "A TLSA record is not at _port._protocol (RFC 6698 section 3).", "Let its name begin with _port._protocol, such as _25._tcp."},
		types: []record.Type{52},
		set: func(_ *view, s record.Set, say sayer) {
			if l := s.Name.Labels(); len(l) < 2 || !portLabel.MatchString(l[0]) || !strings.HasPrefix(l[1], "_") {
				say(s.Key(), "Clients do not look for certificates at this name.")
			}
		}},
}

var portLabel = regexp.MustCompile(`^_(\*|[0-9]{1,5})$`)

func sumOfTTLs(records []record.Record) (sum uint64) {
	for _, r := range records {
		sum += uint64(r.TTL)
	}
	return sum
}

func withTTL(s record.Set, ttl uint32) Edit {
	after := s
	after.TTL = ttl
	return Edit{Before: s, After: after}
}

func eachRepetition(written []record.Record, do func(a, b record.Record)) {
	type same struct {
		key  record.Key
		data record.Data
	}
	first := make(map[same]record.Record, len(written))
	said := map[same]bool{}
	for _, r := range written {
		k := same{r.Key(), r.Data}
		if before, seen := first[k]; !seen {
			first[k] = r
		} else if !said[k] {
			said[k] = true
			do(before, r)
		}
	}
}

// fromWordProcessor reports characters that are typed for others: curly quotes, dashes in the place of hyphens,
// no-break and zero-width blanks, marks of byte order.
func fromWordProcessor(r rune) bool {
	switch r {
	case '“', '”', '„', '‘', '’', '‚', '–', '—', '\u00a0', '\u2007', '\u202f', '\u200b', '\u200c', '\u200d', '\u2060', '\ufeff':
		return true
	}
	return false
}

var plainer = strings.NewReplacer("“", `"`, "”", `"`, "„", `"`, "‘", "'", "’", "'", "‚", "'", "–", "-", "—", "-",
	"\u00a0", " ", "\u2007", " ", "\u202f", " ", "\u200b", "", "\u200c", "", "\u200d", "", "\u2060", "", "\ufeff", "")

// plainText returns the edit that puts plain characters in the place of a word processor's.
func plainText(s record.Set) Edit {
	data := make([]record.Data, 0, len(s.Data))
	for _, d := range s.Data {
		var parts []string
		for _, text := range d.Texts() {
			parts = append(parts, `"`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(plainer.Replace(text))+`"`)
		}
		parsed, err := record.ParseData(s.Type, strings.Join(parts, " "), dnsname.Root)
		if err != nil {
			parsed = d
		}
		data = append(data, parsed)
	}
	return Edit{Before: s, After: record.NewSet(s.Name, s.Type, s.TTL, data...)}
}

func eachCAA(do func(s record.Set, tag, value string, say sayer)) func(*view, record.Set, sayer) {
	return func(_ *view, s record.Set, say sayer) {
		for _, d := range s.Data {
			if parts := strings.SplitN(string(d), " ", 3); len(parts) == 3 {
				do(s, strings.ToLower(parts[1]), strings.Join(record.Data(parts[2]).Texts(), ""), say)
			}
		}
	}
}
