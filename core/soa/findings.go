package soa

import (
	"fmt"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// CodeUnsupported is the code of what Unsupported returns.
const CodeUnsupported = "soa-unsupported"

// Unsupported returns a finding where a zone desires fields that its provider does not let be set; none where all can be.
func Unsupported(zone dnsname.Name, desired Parameters, taken []string) []finding.Finding {
	lacking := desired.Lacking(taken)
	if len(lacking) == 0 {
		return nil
	}
	return []finding.Finding{{Code: CodeUnsupported, Severity: finding.Notice, Subject: zone.String(),
		Message: fmt.Sprintf("The provider sets these fields of the SOA record itself: %s. Not written there.", strings.Join(lacking, ", ")),
		Remedy:  "Nothing to do, or place the zone where they can be set."}}
}

// NotTaken returns a finding for fields that an account confirmed and still returns otherwise.
func NotTaken(zone dnsname.Name, account string, desired, is Parameters) finding.Finding {
	var fields []string
	for _, field := range desired.Given() {
		if desired.Get(field) != is.Get(field) {
			fields = append(fields, fmt.Sprintf("%s is %s, not %s", field, is.Get(field), desired.Get(field)))
		}
	}
	return finding.Finding{Code: "soa-not-taken", Severity: finding.Warning, Subject: zone.String(),
		Message: fmt.Sprintf("%s confirmed new fields of the SOA record, and still returns others: %s.", account, strings.Join(fields, "; ")),
		Remedy:  "Set what the provider takes: beacon zone settings " + zone.Unicode() + " --soa FIELD=VALUE."}
}
