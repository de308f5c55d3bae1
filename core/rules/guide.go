package rules

import (
	"fmt"
	"strings"

	"beacon/core/finding"
)

// Guide prints every rule, and every other code of a finding, with its meaning and its remedy, as a page of the documentation.
func Guide() string {
	var b strings.Builder
	b.WriteString("# What is found\n\n## In zones\n\nErrors block: no nameserver could serve such a zone. Warnings work badly, or not as meant. Notices are worth a word.\n" +
		"`beacon zone check` shows them; so do `beacon apply`, `beacon zone import` and drafts too, before anything is accepted.\n")
	for _, severity := range []finding.Severity{finding.Error, finding.Warning, finding.Notice} {
		fmt.Fprintf(&b, "\n### %ss\n\n| code | what it means | what to do |\n|---|---|---|\n", strings.ToUpper(severity.String()[:1])+severity.String()[1:])
		for _, r := range All() {
			if r.Severity == severity {
				fmt.Fprintf(&b, "| `%s` | %s | %s |\n", r.Code, r.Meaning, r.Remedy)
			}
		}
	}
	for _, about := range []string{finding.Delegations, finding.Arrivals, finding.Lists, finding.Providers} {
		fmt.Fprintf(&b, "\n## %s\n\n| code | what it means | what to do |\n|---|---|---|\n", about)
		for _, k := range finding.Codes {
			if k.About == about {
				fmt.Fprintf(&b, "| `%s` | %s | %s |\n", k.Code, k.Meaning, k.Remedy)
			}
		}
	}
	return b.String()
}
