package arrival

import (
	"fmt"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// covers tells whether a certificate is for a name: a wildcard stands for one label (RFC 9525 section 6.3).
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

// endsSoon tells whether a certificate should have been renewed by now: less than a sixth of its life is left, at most
// three weeks.
func (c Certificate) endsSoon(at time.Time) bool {
	left := c.Until.Sub(at)
	return left < min(c.Until.Sub(c.From)/6, 21*24*time.Hour)
}

// judgeCertificate says what is wrong with the certificate that was shown for a site.
func (j *judge) judgeCertificate(s Site, secure *Contact) {
	if secure == nil || secure.Certificate == nil {
		return
	}
	c := *secure.Certificate
	name := short(s.Name)
	seen := fmt.Sprintf("%s: for %s, by %s, from %s to %s", secure.Address, strings.Join(c.Names, ", "), c.Issuer, day(c.From), day(c.Until))
	again := "Have the host get a new one; whether it can is said beside this, under “ready for a certificate”."
	if !c.covers(s.Name) {
		j.find("certificate-name", finding.Error, name, fmt.Sprintf("The certificate at %s is for %s and not for %s: browsers refuse it.", secure.Address, strings.Join(c.Names, ", "), name), again, seen)
	}
	switch {
	case j.e.At.After(c.Until):
		j.find("certificate-expired", finding.Error, name, fmt.Sprintf("The certificate at %s ended on %s: browsers refuse it.", secure.Address, day(c.Until)), again, seen)
	case j.e.At.Before(c.From):
		j.find("certificate-early", finding.Error, name, fmt.Sprintf("The certificate at %s begins on %s only: browsers refuse it.", secure.Address, day(c.From)), "See whether the clocks are right, here and at the authority.", seen)
	case c.Distrust != "":
		j.find("certificate-untrusted", finding.Error, name, fmt.Sprintf("No authority that is trusted here stands for the certificate at %s: %s.", secure.Address, c.Distrust),
			"See whether the host sends the whole chain, and whether the certificate is one for the public at all.", seen)
	case c.endsSoon(j.e.At):
		j.find("certificate-ends-soon", finding.Warning, name, fmt.Sprintf("The certificate at %s ends on %s, and should have been renewed by now.", secure.Address, day(c.Until)), again, seen)
	}
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }
