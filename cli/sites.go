package cli

import (
	"fmt"
	"strings"
	"time"

	"beacon/core/arrival"
	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// showSites says how the domain's sites stand, address by address, and whether each could have a certificate.
func (a *app) showSites(r delegation.Report) {
	if r.Arrival == nil || len(r.Arrival.Sites) == 0 {
		return
	}
	var rows, ready [][]string
	for _, s := range r.Arrival.Sites {
		label, state := plain(s.Name), string(s.State)
		for _, l := range s.Leads {
			at := l.Address.String()
			if !l.Given {
				at += " (old)"
			}
			rows = append(rows, []string{label, state, at, contactText(s.Name, l.HTTP), contactText(s.Name, l.HTTPS)})
			label, state = "", ""
		}
		if len(s.Leads) == 0 {
			rows = append(rows, []string{label, state, "no address", "", ""})
		}
		if s.State != arrival.NoSite {
			ready = append(ready, readyRow(plain(s.Name), "HTTP", s.OverHTTP), readyRow("", "DNS", s.OverDNS))
		}
	}
	a.printf("\n")
	a.table([]string{"SITE", "STANDS", "AT", "HTTP", "HTTPS"}, rows)
	if len(ready) > 0 {
		a.printf("\n")
		a.table([]string{"A CERTIFICATE FOR", "OVER", "READY", "WHY"}, ready)
	}
	if len(r.Arrival.Findings) > 0 {
		a.printf("\n")
		a.findings(r.Arrival.Findings)
	}
}

// contactText says in a few words what answered.
func contactText(name dnsname.Name, c *arrival.Contact) string {
	switch {
	case c == nil:
		return "not asked"
	case c.Failure == arrival.Barred || c.Failure == arrival.NoRoute:
		return "not from here"
	case c.Failure == arrival.Mute:
		return "silent"
	case c.Failure != "":
		return string(c.Failure)
	}
	said := fmt.Sprint(c.Status)
	switch {
	case c.Leads == "https://"+plain(name)+"/":
		said = "to https"
	case c.Leads != "":
		said = "to " + strings.TrimSuffix(strings.TrimPrefix(c.Leads, "https://"), "/")
	}
	if c.Certificate != nil {
		said += ", certificate to " + c.Certificate.Until.UTC().Format(time.DateOnly)
	}
	return said
}

func readyRow(name, over string, r arrival.Readiness) []string {
	switch {
	case r.Ready && len(r.Mind) > 0:
		return []string{name, over, "yes", "but for who holds old answers: " + strings.Join(r.Mind, "; ")}
	case r.Ready:
		return []string{name, over, "yes", ""}
	case r.Unknown != "":
		return []string{name, over, "cannot tell", r.Unknown}
	}
	return []string{name, over, "no", strings.Join(r.Lacks, "; ")}
}
