package delegation

import (
	"fmt"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// News returns in short lines what of a report is news when it changes: the verdict, what the parents serve, who of
// the resolvers sees what, what was found, and how the sites stand. Times are not part of it.
func (r Report) News() []string {
	lines := []string{string(r.Verdict), "parents serve " + plainNames(r.InForce())}
	sees := map[string][]string{}
	var order []string
	for _, v := range r.Resolvers {
		what := v.Sees
		if v.Through != "" {
			what += " through " + v.Through
		}
		if sees[what] == nil {
			order = append(order, what)
		}
		sees[what] = append(sees[what], v.Name)
	}
	for _, what := range order {
		lines = append(lines, strings.Join(sees[what], ", ")+": "+what)
	}
	for _, f := range r.Findings {
		if f.Code != "resolver-still-old" { // said above already
			lines = append(lines, fmt.Sprintf("%s %s: %s", f.Severity, f.Code, strings.TrimSuffix(f.Subject, ".")))
		}
	}
	if r.Arrival == nil {
		return lines
	}
	for _, s := range r.Arrival.Sites {
		lines = append(lines, fmt.Sprintf("site %s: %s", dnsname.Short(s.Name), s.State))
	}
	for _, f := range r.Arrival.Findings {
		if f.Severity > finding.Notice {
			lines = append(lines, fmt.Sprintf("%s %s: %s", f.Severity, f.Code, f.Subject))
		}
	}
	return lines
}

// InForce is what the parents serve, all of them together.
func (r Report) InForce() (all []dnsname.Name) {
	for _, p := range r.Parents {
		all = append(all, p.Nameservers...)
	}
	return dnsname.SortSet(all)
}

func plainNames(list []dnsname.Name) string {
	if len(list) == 0 {
		return "none"
	}
	texts := make([]string, len(list))
	for i, n := range list {
		texts[i] = strings.TrimSuffix(n.String(), ".")
	}
	return strings.Join(texts, ", ")
}
