package rules

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"beacon/core/finding"
)

// Guide returns every rule of zones, and every other code of a finding, by what it is about and by code.
func Guide() []finding.Known {
	var list []finding.Known
	for _, r := range All() {
		k := finding.Known{Code: r.Code, About: finding.Zones, Severity: r.Severity.String(), Meaning: r.Meaning, Remedy: r.Remedy}
		if r.Severity == finding.Error {
			k.Guard = "what is accepted: no nameserver could serve such a zone"
		}
		list = append(list, k)
	}
	list = append(list, finding.Codes...)
	order := []string{finding.Zones, finding.Delegations, finding.Arrivals, finding.Lists, finding.Providers}
	slices.SortStableFunc(list, func(a, b finding.Known) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.About), slices.Index(order, b.About)), cmp.Compare(a.Code, b.Code))
	})
	return list
}

// Explain returns what a code means; a few mean one thing in a zone, and another in a delegation.
func Explain(code string) (list []finding.Known) {
	for _, k := range Guide() {
		if k.Code == code {
			list = append(list, k)
		}
	}
	return list
}

// Page prints the guide as a page of the documentation, with an anchor for each code.
func Page() string {
	var b strings.Builder
	b.WriteString("# Findings\n\nEach finding has a code. `beacon explain CODE` prints its entry here, and the console links to the same text.\n\n" +
		"| severity | meaning |\n|---|---|\n" +
		"| error | in a zone: no nameserver could serve it, so it is not accepted. Elsewhere: needs action |\n" +
		"| warning | works badly, or not as intended |\n| notice | good to know |\n\n" +
		"*Blocks* says what a finding stops until a user allows it.\n")
	about, anchors := "", map[string]bool{}
	for _, k := range Guide() {
		if k.About != about {
			about = k.About
			fmt.Fprintf(&b, "\n## %s\n\n| code | severity | meaning | what to do |\n|---|---|---|---|\n", about)
		}
		anchor := ""
		if !anchors[k.Code] {
			anchor = fmt.Sprintf(`<a id="%s"></a>`, k.Code)
		}
		anchors[k.Code] = true
		meaning := k.Meaning
		if k.Guard != "" && k.About != finding.Zones {
			meaning += " Blocks " + k.Guard + "."
		}
		fmt.Fprintf(&b, "| %s`%s` | %s | %s | %s |\n", anchor, k.Code, k.Severity, meaning, k.Remedy)
	}
	return b.String()
}
