package diff

import (
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/wording"
)

// GuardUnconfirmed is the guard that blocks what would follow from a read that could not be confirmed.
const GuardUnconfirmed = "read-not-confirmed"

// Unconfirmed is what a user is told of a read of a zone at an account that is not believed, with so many doubts.
func Unconfirmed(zone dnsname.Name, account string, doubts int, v Verdict) finding.Finding {
	why := v.Why
	switch {
	case why != "":
	case v.Silent:
		why = "none of the zone's nameservers answers"
	default:
		why = "reads made shortly after each other differ"
	}
	what := "does not return " + wording.Counted(doubts, "record set") + " as last written or seen"
	if doubts == 0 {
		what = "returns records that were never read before"
	}
	return finding.Finding{Code: GuardUnconfirmed, Severity: finding.Error, Subject: zone.String(),
		Message: fmt.Sprintf("The interface of %s %s, and that is not confirmed: %s. Nothing was changed because of it.", account, what, why),
		Remedy:  "Wait until the provider's interface and its nameservers agree. If the interface is right: --allow " + GuardUnconfirmed + "."}
}

// GuardUnshown is the code of the finding that blocks a sync whose writes do not show.
const GuardUnshown = "write-not-shown"

// NotShown is what a user is told of sets of a zone whose write an account confirmed, and neither its interface nor its nameservers show.
func NotShown(zone dnsname.Name, account string, keys []string) finding.Finding {
	text := keys[0]
	if len(keys) > 1 {
		text = fmt.Sprintf("%s and %d more", keys[0], len(keys)-1)
	}
	return finding.Finding{Code: GuardUnshown, Severity: finding.Error, Subject: keys[0],
		Message: fmt.Sprintf("%s confirmed the write of %s, and neither its interface nor the zone's nameservers show it.", account, text),
		Remedy:  "Look at the zone at the provider's own site. Then sync again: beacon sync " + zone.Unicode() + "."}
}
