package arrival

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// dead reports whether nothing answered at all.
func dead(c *Contact) bool { return c != nil && (c.Failure == Closed || c.Failure == Mute) }

// tried reports whether a contact could be tried.
func tried(c *Contact) bool { return c != nil && c.Failure != Barred && c.Failure != NoRoute }

func works(c *Contact) bool { return c != nil && c.Failure == "" }

func (c Contact) text() string {
	where := "http"
	if c.Secure {
		where = "https"
	}
	what := c.Problem
	if what == "" {
		what = fmt.Sprint("status ", c.Status)
		if c.Leads != "" {
			what += ", redirects to " + c.Leads
		}
	}
	return fmt.Sprintf("%s at %s: %s", where, c.Address, what)
}

func network(a netip.Addr) string {
	if a.Is6() {
		return "IPv6"
	}
	return "IPv4"
}

// judgeContacts returns what answered at the addresses that the nameservers give; looked is false where none could be tried.
func (j *judge) judgeContacts(s Site, given []netip.Addr) (looked bool) {
	name := short(s.Name)
	var fine, silent []netip.Addr
	var seen []string
	for _, a := range given {
		plain, secure := s.contact(a, false), s.contact(a, true)
		if !tried(plain) && !tried(secure) {
			continue
		}
		looked = true
		if dead(plain) && dead(secure) {
			silent = append(silent, a)
			seen = append(seen, plain.text(), secure.text())
			continue
		}
		fine = append(fine, a)
		j.judgeSchemes(name, a, plain, secure)
		j.judgeCertificate(s, secure)
	}
	if len(given) > 0 && !hasNetwork(given, true) && looked {
		j.find("site-no-v6", finding.Notice, name, name+" has no AAAA record: clients with IPv6 only reach it through a translator, if at all.", "Give it an IPv6 address, if its host has one.")
	}
	switch {
	case len(silent) == 0:
	case len(fine) == 0:
		j.find("site-unreachable", finding.Error, name, fmt.Sprintf("Nothing answers at %s, over http or https.", texts(silent)),
			"See whether the host runs, whether its firewall lets ports 80 and 443 through, and whether the addresses are right.", seen...)
	case hasNetwork(silent, true) && !hasNetwork(fine, true):
		j.find("site-v6-fails", finding.Warning, name, fmt.Sprintf("Nothing answers over IPv6 at %s, while %s works: users with IPv6 wait or fail, and authorities that look over IPv6 first issue no certificate.", texts(silent), texts(fine)),
			"Have the host answer over IPv6, or remove the AAAA record.", seen...)
	default:
		j.find("site-address-fails", finding.Warning, name, fmt.Sprintf("Nothing answers at %s, while %s works: some of the users wait or fail.", texts(silent), texts(fine)),
			"Have the host answer there, or remove the address.", seen...)
	}
	j.judgeNetworks(s, fine)
	return looked
}

// judgeSchemes holds http and https at one address against each other.
func (j *judge) judgeSchemes(name string, a netip.Addr, plain, secure *Contact) {
	switch {
	case plain == nil || secure == nil:
		return
	case dead(plain):
		j.findAt(a, "http-closed", finding.Notice, name, "%s answers over https only; requests over http get nothing, and no authority can look there over HTTP.",
			"Have port 80 redirect to https.", plain.text())
	case dead(secure):
		j.findAt(a, "https-closed", finding.Warning, name, "%s answers over http, and not over https: browsers warn, or do not even try http.",
			"Set up https, with a certificate for "+name+".", secure.text())
	case works(plain) && works(secure) && plain.Leads == "" && plain.Status < 400:
		j.findAt(a, "http-stays", finding.Warning, name, "%s serves the website over http without a redirect to https: what users send can be read on the way.",
			"Redirect http to https.", plain.text())
	}
	for _, c := range []*Contact{plain, secure} {
		switch {
		case c.Failure == NoTLS:
			j.findAt(a, "tls-fails", finding.Error, name, "%s answers on the port for https, and no secure connection comes about: "+c.Problem+".",
				"See to the host's TLS set-up; does it know the name "+name+"?", c.text())
		case c.Failure == NoHTTP:
			j.findAt(a, "site-not-http", finding.Error, name, "%s answers, and not as a web server does: "+c.Problem+".", "See what listens on this port at the host.", c.text())
		case works(c) && c.Status >= 500:
			j.findAt(a, "site-error", finding.Warning, name, fmt.Sprintf("%%s answers with an error of its own, status %d.", c.Status), "See the web server's log.", c.text())
		case works(c) && c.Status >= 400:
			j.findAt(a, "site-status", finding.Notice, name, fmt.Sprintf("%%s answers the front page with status %d.", c.Status), "See whether the web server knows the name "+name+".", c.text())
		}
		if works(c) && c.Secure && strings.HasPrefix(c.Leads, "http://") {
			j.findAt(a, "redirect-insecure", finding.Warning, name, "%s redirects from https back to http: "+c.Leads+".", "Redirect to an https address.", c.text())
		}
	}
}

// judgeNetworks says that the two networks lead to different sites: an AAAA record that still points to the old host, say.
func (j *judge) judgeNetworks(s Site, fine []netip.Addr) {
	var four, six *Contact
	for _, a := range fine {
		c := s.contact(a, true)
		if !works(c) {
			c = s.contact(a, false)
		}
		if !works(c) {
			continue
		}
		if a.Is6() && six == nil {
			six = c
		} else if a.Is4() && four == nil {
			four = c
		}
	}
	if four == nil || six == nil {
		return
	}
	other := four.Secure != six.Secure || four.Status/100 != six.Status/100 || host(four.Leads) != host(six.Leads)
	if four.Certificate != nil && six.Certificate != nil && four.Certificate.Print != six.Certificate.Print {
		other = true
	}
	if other {
		j.find("site-v6-other", finding.Warning, short(s.Name), fmt.Sprintf("%s answers otherwise over IPv6 (%s) than over IPv4 (%s): they are probably not the same host.", short(s.Name), six.Address, four.Address),
			"Look at the AAAA record: was it forgotten when the site moved?", four.text(), six.text())
	}
}

// longestWay is how many redirects are followed.
const longestWay = 10

// judgeEnd follows redirects from http, as somebody who types a name is led, and gives where that ends.
func (j *judge) judgeEnd(s Site) string {
	at := "http://" + short(s.Name) + "/"
	past := []string{}
	for range longestWay {
		if slices.Contains(past, at) {
			j.find("redirect-loop", finding.Error, short(s.Name), "Redirects form a loop: "+strings.Join(append(past, at), " to ")+".", "Correct the redirects at the web server; browsers give up.", past...)
			return ""
		}
		past = append(past, at)
		u, err := url.Parse(at)
		if err != nil {
			return at
		}
		switch c := j.front(u); {
		case c == nil && len(past) == 1 && u.Scheme == "http": // browsers then try this
			at, past = "https://"+u.Host+"/", nil
		case c == nil && len(past) == 1:
			return ""
		case c == nil || c.Leads == "":
			return at
		default:
			at = c.Leads
		}
	}
	j.find("redirect-loop", finding.Error, short(s.Name), fmt.Sprintf("More than %d redirects follow each other; browsers give up.", longestWay), "Correct the redirects at the web server.", past...)
	return ""
}

// front returns what answered for the front page of one of our sites; nil for what was not asked.
func (j *judge) front(u *url.URL) *Contact {
	if u.Path != "" && u.Path != "/" || u.RawQuery != "" {
		return nil
	}
	name, err := dnsname.Parse(u.Hostname())
	if err != nil {
		return nil
	}
	for _, s := range j.e.Sites {
		if s.Name != name {
			continue
		}
		for _, a := range s.given() {
			if c := s.contact(a, u.Scheme == "https"); works(c) {
				return c
			}
		}
	}
	return nil
}

// host is the host of a URL.
func host(text string) string {
	u, err := url.Parse(text)
	if err != nil {
		return text
	}
	return u.Hostname()
}
