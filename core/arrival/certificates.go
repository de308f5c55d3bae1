package arrival

import (
	"fmt"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// covers reports whether a certificate is for a name: a wildcard stands for one label (RFC 9525 section 6.3).
func (c Certificate) covers(name dnsname.Name) bool {
	for _, text := range c.Names {
		rest, wild := strings.CutPrefix(text, "*.")
		n, err := dnsname.Parse(rest)
		if err != nil {
			continue
		}
		if !wild && n == name || wild && !name.IsRoot() && name.Parent() == n {
			return true
		}
	}
	return false
}

// endsSoon reports whether a certificate should have been renewed by now: less than a sixth of its life is left, at most
// three weeks.
func (c Certificate) endsSoon(at time.Time) bool {
	left := c.Until.Sub(at)
	return left < min(c.Until.Sub(c.From)/6, 21*24*time.Hour)
}

// judgeCertificate returns what is wrong with the certificate that was shown for a site.
func (j *judge) judgeCertificate(s Site, secure *Contact) {
	if secure == nil || secure.Certificate == nil {
		return
	}
	c := *secure.Certificate
	name := short(s.Name)
	seen := fmt.Sprintf("%s: for %s, by %s, from %s to %s", secure.Address, strings.Join(c.Names, ", "), c.Issuer, day(c.From), day(c.Until))
	again := "Request a new certificate at the web host; “ready for a certificate” shows whether it can get one."
	at := secure.Address
	if !c.covers(s.Name) {
		j.findAt(at, "certificate-name", finding.Error, name, "The certificate at %s is for "+strings.Join(c.Names, ", ")+" and not for "+name+": browsers refuse it.", again, seen)
	}
	switch {
	case j.e.At.After(c.Until):
		j.findAt(at, "certificate-expired", finding.Error, name, "The certificate at %s ended on "+day(c.Until)+": browsers refuse it.", again, seen)
	case j.e.At.Before(c.From):
		j.findAt(at, "certificate-early", finding.Error, name, "The certificate at %s begins on "+day(c.From)+" only: browsers refuse it.", "See whether the clocks are right, here and at the authority.", seen)
	case c.Distrust != "":
		j.findAt(at, "certificate-untrusted", finding.Error, name, "No authority that is trusted here issued the certificate at %s: "+c.Distrust+".",
			"See whether the host sends the whole chain, and whether the certificate is one for the public at all.", seen)
	case c.endsSoon(j.e.At):
		j.findAt(at, "certificate-ends-soon", finding.Warning, name, "The certificate at %s ends on "+day(c.Until)+", and should have been renewed by now.", again, seen).By = &c.Until
	}
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }
