package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/arrival"
	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// showSites prints how the domain's sites stand, what answers where they lead, and whether each could have a certificate.
func (a *app) showSites(r delegation.Report) {
	if r.Arrival == nil || len(r.Arrival.Sites) == 0 {
		return
	}
	var rows [][]string
	for _, s := range r.Arrival.Sites {
		label, state := plain(s.Name), string(s.State)
		for _, line := range answerLines(s) {
			rows = append(rows, []string{label, state, line})
			label, state = "", ""
		}
	}
	a.printf("\n")
	a.table([]string{"WEBSITE", "STATE", "ADDRESSES, AND WHAT ANSWERS"}, rows)
	if ready := readyRows(r.Domain, r.Arrival.Sites); len(ready) > 0 {
		a.printf("\n")
		a.table([]string{"A CERTIFICATE", "FOR", "READY", "WHY"}, ready)
	}
	if len(r.Arrival.Findings) > 0 {
		a.printf("\n")
		a.findings(r.Arrival.Findings)
	}
}

// answerLines returns what answers for a site; addresses at which the same does are named together.
func answerLines(s arrival.SiteView) (lines []string) {
	if len(s.Leads) == 0 {
		return []string{"no address"}
	}
	var said []string
	var at [][]string
	for _, l := range s.Leads {
		text, address := "  "+contactText(s.Name, "http", l.HTTP)+"\n  "+contactText(s.Name, "https", l.HTTPS), l.Address.String()
		if !l.Given {
			address += " (old)"
		}
		i := slices.Index(said, text)
		if i < 0 {
			i, said, at = len(said), append(said, text), append(at, nil)
		}
		at[i] = append(at[i], address)
	}
	for i, text := range said {
		lines = append(lines, strings.Join(at[i], ", "))
		lines = append(lines, strings.Split(text, "\n")...)
	}
	return lines
}

// contactText says in a few words what answered over a scheme.
func contactText(name dnsname.Name, scheme string, c *arrival.Contact) string {
	switch {
	case c == nil:
		return scheme + " was not asked"
	case c.Failure == arrival.Barred || c.Failure == arrival.NoRoute:
		return scheme + " cannot be asked from here"
	case c.Failure == arrival.Mute:
		return scheme + " is silent"
	case c.Failure == arrival.Closed:
		return scheme + " is closed"
	case c.Failure == arrival.NoTLS:
		return scheme + " is not secured"
	case c.Failure != "":
		return scheme + " is no web server"
	}
	said := fmt.Sprintf("%s answers %d", scheme, c.Status)
	switch {
	case c.Leads == "https://"+plain(name)+"/":
		said = scheme + " redirects to https"
	case c.Leads != "":
		said = scheme + " redirects to " + strings.TrimSuffix(c.Leads, "/")
	}
	if c.Certificate != nil {
		said += ", certificate to " + c.Certificate.Until.UTC().Format(time.DateOnly)
	}
	return said
}

// readyRows reports whether certificates could be had; sites of which the same is true share a row.
func readyRows(domain dnsname.Name, sites []arrival.SiteView) (rows [][]string) {
	sites = slices.DeleteFunc(slices.Clone(sites), func(s arrival.SiteView) bool { return s.State == arrival.NoAddress })
	add := func(over string, of func(arrival.SiteView) arrival.Readiness) {
		type answer struct{ ready, why string }
		var answers []answer
		names := map[answer][]string{}
		for _, s := range sites {
			label := plain(s.Name)
			if s.Name != domain {
				label = s.Name.Relative(domain)
			}
			var said answer
			said.ready, said.why = readyText(of(s))
			if names[said] == nil {
				answers = append(answers, said)
			}
			names[said] = append(names[said], label)
		}
		for _, said := range answers {
			whose := strings.Join(names[said], ", ")
			if len(answers) == 1 && len(sites) > 1 {
				whose = "all websites"
			}
			rows = append(rows, []string{over, whose, said.ready, said.why})
			over = ""
		}
	}
	add("over HTTP", func(s arrival.SiteView) arrival.Readiness { return s.OverHTTP })
	add("over DNS", func(s arrival.SiteView) arrival.Readiness { return s.OverDNS })
	return rows
}

func readyText(r arrival.Readiness) (ready, why string) {
	switch {
	case r.Ready && len(r.Mind) > 0:
		return "yes", "but for who holds old answers: " + strings.Join(r.Mind, "; ")
	case r.Ready:
		return "yes", ""
	case r.Unknown != "":
		return "check failed", r.Unknown
	}
	return "no", strings.Join(r.Lacks, "; ")
}
