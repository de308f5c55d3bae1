package rules

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// mailRules are about mail: MX, SPF (RFC 7208), DKIM (RFC 6376) and DMARC (RFC 7489).
var mailRules = []rule{
	{Rule: Rule{"several-spf", finding.Warning, "A name has more than one SPF policy: receivers treat that as an error, and ignore both (RFC 7208 section 4.5).", "Put everything into one TXT record that begins with v=spf1."},
		types: txt,
		set: func(v *view, s record.Set, say sayer) {
			if n := len(v.policies(s, isSPF)); n > 1 {
				say(s.Key(), fmt.Sprintf("There are %d SPF policies; one is allowed.", n))
			}
		}},
	{Rule: Rule{"spf-too-many-lookups", finding.Warning, "An SPF policy asks for more than ten look-ups; receivers give up (RFC 7208 section 4.6.4).", "Write the addresses themselves (ip4, ip6), or leave services out that are not used any more."},
		types: txt,
		set: eachPolicy(isSPF, func(s record.Set, text string, say sayer) {
			n := 0
			for _, term := range strings.Fields(text)[1:] {
				word, _, _ := strings.Cut(strings.TrimLeft(strings.ToLower(term), "+-~?"), ":")
				word, _, _ = strings.Cut(word, "/")
				if slices.Contains([]string{"include", "a", "mx", "ptr", "exists"}, word) || strings.HasPrefix(word, "redirect=") {
					n++
				}
			}
			if n > 10 {
				say(s.Key(), fmt.Sprintf("It asks for %d look-ups by itself, those of included policies not counted.", n))
			}
		})},
	{Rule: Rule{"spf-syntax", finding.Warning, "An SPF policy has a term that is not known, so that receivers treat it as an error.", "Correct the term: all, include:, a, mx, ip4:, ip6:, exists:, redirect= or exp=."},
		types: txt,
		set: eachPolicy(isSPF, func(s record.Set, text string, say sayer) {
			for _, term := range strings.Fields(text)[1:] {
				if !knownSPFTerm(term) {
					say(s.Key(), fmt.Sprintf("%q is no term of SPF.", term))
				}
			}
		})},
	{Rule: Rule{"spf-allows-all", finding.Warning, "An SPF policy lets everyone send mail in this name.", "End it with -all or ~all."},
		types: txt,
		set: eachPolicy(isSPF, func(s record.Set, text string, say sayer) {
			for _, term := range strings.Fields(text)[1:] {
				if t := strings.ToLower(term); t == "all" || t == "+all" {
					say(s.Key(), fmt.Sprintf("%q lets everyone send mail in this name.", term))
				}
			}
		})},
	{Rule: Rule{"spf-without-end", finding.Notice, "An SPF policy ends without all or redirect=: mail from elsewhere is neither allowed nor refused.", "End it with -all or ~all."},
		types: txt,
		set: eachPolicy(isSPF, func(s record.Set, text string, say sayer) {
			lower := strings.ToLower(text)
			if !strings.HasSuffix(strings.TrimSpace(lower), "all") && !strings.Contains(lower, " redirect=") {
				say(s.Key(), "It says nothing of mail from elsewhere.")
			}
		})},
	{Rule: Rule{"spf-record-type", finding.Notice, "A record has the type SPF, which receivers no longer ask for (RFC 7208 section 3.1).", "Put the policy into a TXT record, and remove this one."},
		types: []record.Type{99},
		set:   func(_ *view, s record.Set, say sayer) { say(s.Key(), "The type SPF is no longer used.") }},
	{Rule: Rule{"dkim-unreadable", finding.Warning, "A DKIM key cannot be read: it was cut off or broken over lines, probably.", "Copy the key again, as a whole; parts of 255 characters follow each other without a gap."},
		types: txt,
		set: eachKey(func(s record.Set, key string, say sayer) {
			if _, err := base64.StdEncoding.DecodeString(key); err != nil {
				say(s.Key(), "The key (p=) is not valid base64.")
			}
		})},
	{Rule: Rule{"dkim-weak", finding.Warning, "A DKIM key is an RSA key of less than 1024 bits, which receivers must not accept (RFC 8301).", "Make a new key of 2048 bits."},
		types: txt,
		set: eachKey(func(s record.Set, key string, say sayer) {
			raw, err := base64.StdEncoding.DecodeString(key)
			if err != nil || len(raw) == 0 {
				return
			}
			if parsed, err := x509.ParsePKIXPublicKey(raw); err == nil {
				if k, ok := parsed.(*rsa.PublicKey); ok && k.N.BitLen() < 1024 {
					say(s.Key(), fmt.Sprintf("The key has %d bits.", k.N.BitLen()))
				}
			}
		})},
	{Rule: Rule{"several-dmarc", finding.Warning, "A name has more than one DMARC policy: receivers ignore all of them (RFC 7489 section 6.6.3).", "Keep the one that is meant."},
		types: txt,
		set: func(v *view, s record.Set, say sayer) {
			if n := len(v.policies(s, isDMARC)); n > 1 {
				say(s.Key(), fmt.Sprintf("There are %d DMARC policies; one is allowed.", n))
			}
		}},
	{Rule: Rule{"dmarc-syntax", finding.Warning, "A DMARC policy cannot be understood (RFC 7489 section 6.3).", "Write it like v=DMARC1; p=quarantine; rua=mailto:reports@… with p one of none, quarantine, reject."},
		types: txt,
		set: eachPolicy(isDMARC, func(s record.Set, text string, say sayer) {
			if wrong := wrongDMARC(text); wrong != "" {
				say(s.Key(), wrong)
			}
		})},
	{Rule: Rule{"dmarc-unrecognised", finding.Warning, "A TXT record at _dmarc does not begin with v=DMARC1, so that receivers do not recognise it as a policy.", "Begin it with v=DMARC1."},
		types: txt,
		set: func(v *view, s record.Set, say sayer) {
			if firstLabel(s.Name) == "_dmarc" && len(v.policies(s, isDMARC)) == 0 {
				say(s.Key(), "No text here begins with v=DMARC1.")
			}
		}},
	{Rule: Rule{"mail-without-spf", finding.Notice, "The domain receives mail and does not publish who may send in its name (SPF).", "Add a TXT record to the apex, such as v=spf1 mx -all."},
		zone: func(v *view, say sayer) {
			if v.receivesMail() && len(v.policies(v.at(v.Name, record.TXT), isSPF)) == 0 {
				say(record.Key{Name: v.Name, Type: record.TXT}, "There is an MX record and no SPF policy.")
			}
		}},
	{Rule: Rule{"mail-without-dmarc", finding.Notice, "The domain receives mail and says nothing of what to do with forged mail (DMARC).", "Add a TXT record to _dmarc, such as v=DMARC1; p=none; rua=mailto:reports@…"},
		zone: func(v *view, say sayer) {
			name, err := v.Name.Child("_dmarc")
			if err == nil && v.receivesMail() && len(v.Contents.At(name)) == 0 {
				say(record.Key{Name: name, Type: record.TXT}, "There is an MX record and no DMARC policy.")
			}
		}},
	{Rule: Rule{"null-mx-beside-others", finding.Warning, "An MX record says that no mail is received, and others say where it goes (RFC 7505 section 3).", "Keep either the one with the dot, or the others."},
		types: []record.Type{record.MX},
		set: func(_ *view, s record.Set, say sayer) {
			if len(s.Data) > 1 && slices.ContainsFunc(s.Data, func(d record.Data) bool { return d.Target(record.MX).IsRoot() }) {
				say(s.Key(), "“0 .” means that no mail is received, and must be the only one.")
			}
		}},
}

var txt = []record.Type{record.TXT}

func isSPF(text string) bool {
	lower := strings.ToLower(text)
	return lower == "v=spf1" || strings.HasPrefix(lower, "v=spf1 ")
}

func isDMARC(text string) bool {
	return strings.HasPrefix(strings.ToLower(strings.ReplaceAll(text, " ", "")), "v=dmarc1")
}

// policies returns the texts of a set that are of a kind.
func (v *view) policies(s record.Set, is func(string) bool) (list []string) {
	for _, text := range v.textsOf(s) {
		if is(text) {
			list = append(list, text)
		}
	}
	return list
}

func eachPolicy(is func(string) bool, do func(record.Set, string, sayer)) func(*view, record.Set, sayer) {
	return func(v *view, s record.Set, say sayer) {
		if is("v=DMARC1") && firstLabel(s.Name) != "_dmarc" {
			return
		}
		for _, text := range v.policies(s, is) {
			do(s, text, say)
		}
	}
}

// eachKey calls a rule for each DKIM key: a TXT record below _domainkey with a tag p.
func eachKey(do func(record.Set, string, sayer)) func(*view, record.Set, sayer) {
	return func(v *view, s record.Set, say sayer) {
		if !strings.Contains(s.Name.Key(), "\x00_domainkey\x00") {
			return
		}
		for _, text := range v.texts {
			if key, ok := tags(text)["p"]; ok {
				do(s, strings.Join(strings.Fields(key), ""), say)
			}
		}
	}
}

// tags reads a list such as "v=DKIM1; k=rsa; p=…" (RFC 6376 section 3.2).
func tags(text string) map[string]string {
	out := map[string]string{}
	for _, part := range strings.Split(text, ";") {
		if name, value, ok := strings.Cut(part, "="); ok {
			out[strings.ToLower(strings.TrimSpace(name))] = strings.TrimSpace(value)
		}
	}
	return out
}

func wrongDMARC(text string) string {
	t := tags(text)
	known := []string{"none", "quarantine", "reject"}
	switch p, sp := strings.ToLower(t["p"]), strings.ToLower(t["sp"]); {
	case !slices.Contains(known, p):
		return fmt.Sprintf("p=%s is no policy; it is none, quarantine or reject.", t["p"])
	case t["sp"] != "" && !slices.Contains(known, sp):
		return fmt.Sprintf("sp=%s is no policy; it is none, quarantine or reject.", t["sp"])
	}
	if pct, ok := t["pct"]; ok {
		if n, err := strconv.Atoi(pct); err != nil || n < 0 || n > 100 {
			return fmt.Sprintf("pct=%s is no share; it is 0 to 100.", pct)
		}
	}
	for _, tag := range []string{"rua", "ruf"} {
		for _, address := range strings.Split(t[tag], ",") {
			if address = strings.TrimSpace(address); address != "" && !strings.HasPrefix(strings.ToLower(address), "mailto:") {
				return fmt.Sprintf("%s=%s is no address; it begins with mailto:.", tag, address)
			}
		}
	}
	return ""
}

func knownSPFTerm(term string) bool {
	lower := strings.ToLower(term)
	if name, _, ok := strings.Cut(lower, "="); ok && !strings.ContainsAny(name, ":/") { // redirect, exp, and modifiers to come
		return name != ""
	}
	word := strings.TrimLeft(lower, "+-~?")
	name, value, hasValue := strings.Cut(word, ":")
	name, _, _ = strings.Cut(name, "/")
	switch name {
	case "all":
		return !hasValue && word == "all"
	case "include", "exists", "ip4", "ip6":
		return value != ""
	case "a", "mx", "ptr":
		return !hasValue || value != ""
	}
	return false
}

func firstLabel(name dnsname.Name) string {
	if labels := name.Labels(); len(labels) > 0 {
		return labels[0]
	}
	return ""
}

func (v *view) receivesMail() bool {
	mx := v.at(v.Name, record.MX)
	return !mx.IsZero() && !mx.Data[0].Target(record.MX).IsRoot()
}
