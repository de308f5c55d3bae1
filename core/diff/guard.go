package diff

import (
	"fmt"
	"strings"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// GuardNamesStop is the code of the guard against names that would stop answering.
const GuardNamesStop = "names-would-stop"

// Guards says what in the list needs a person's yes: the names that answer now and would not afterwards.
// A finding is given for each guard that speaks; its code is what the person says yes to.
func Guards(list change.List, live record.Contents) []finding.Finding {
	stopping := namesStopping(list, live)
	if len(stopping) == 0 {
		return nil
	}
	shown := make([]string, 0, 5)
	for _, n := range stopping[:min(len(stopping), 5)] {
		shown = append(shown, n.Unicode())
	}
	if more := len(stopping) - len(shown); more > 0 {
		shown = append(shown, fmt.Sprintf("and %d more", more))
	}
	return []finding.Finding{{Code: GuardNamesStop, Severity: finding.Warning, Subject: stopping[0].Unicode(),
		Message: fmt.Sprintf("%s would answer nothing afterwards: %s.", countNames(len(stopping)), strings.Join(shown, ", ")),
		Remedy:  "If that is meant, say yes to this guard (--allow " + GuardNamesStop + "); else put the names back into what is wanted."}}
}

func countNames(n int) string {
	if n == 1 {
		return "One name that answers now"
	}
	return fmt.Sprintf("%d names that answer now", n)
}

// namesStopping gives the names that have data in live and none once the list is applied.
func namesStopping(list change.List, live record.Contents) []dnsname.Name {
	var names []dnsname.Name
	for start := 0; start < len(list); {
		name := list[start].Key().Name
		before, after := len(live.At(name)), len(live.At(name))
		for ; start < len(list) && list[start].Key().Name == name; start++ {
			after += len(list[start].After.Data) - len(list[start].Before.Data)
		}
		if before > 0 && after <= 0 {
			names = append(names, name)
		}
	}
	return names
}
