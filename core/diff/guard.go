package diff

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// The codes of the guards. What a user allows is a code.
const (
	GuardNamesStop = "names-would-stop"     // names that answer now would not
	GuardProtected = "protected-would-go"   // the same for what the zone's definition protects
	GuardMail      = "mail-would-stop"      // mail would not arrive, or not be believed
	GuardApex      = "apex-would-change"    // SOA or nameservers at the apex
	GuardAlias     = "alias-would-be-empty" // an ALIAS whose target does not answer would replace addresses
	GuardHost      = "host-would-stop"      // the last address of a name that follows reports
)

// Watched is what guards look at besides the change itself.
type Watched struct {
	Zone       dnsname.Name
	Protect    []record.Pattern
	Hosts      []dnsname.Name // names that follow reported addresses
	Unanswered []dnsname.Name // ALIAS names of whose targets no address is known
}

// Guards returns what in the list needs a user's yes. A finding is given for each guard that speaks; its code is what the
// person allows it to.
func Guards(list change.List, live record.Contents, watched Watched) (found []finding.Finding) {
	speak := func(code string, severity finding.Severity, names []string, message, remedy string) {
		if len(names) > 0 {
			found = append(found, finding.Finding{Code: code, Severity: severity, Subject: names[0], Message: fmt.Sprintf(message, joinNames(names)),
				Remedy: "If this is intended, allow it: --allow " + code + "; else " + remedy})
		}
	}
	if authority := (record.Key{Name: watched.Zone, Type: record.SOA}); !live.Get(authority).IsZero() { // nobody asks the apex for it alone
		live = live.Without(authority)
		list = slices.DeleteFunc(slices.Clone(list), func(s change.Step) bool { return s.Key() == authority && !s.After.IsZero() })
	}
	var stopping, protected, hosts, mail, apex, empty []string
	for _, n := range namesStopping(list, live) {
		if slices.Contains(watched.Hosts, n) {
			hosts = append(hosts, n.Unicode())
		} else {
			stopping = append(stopping, n.Unicode())
		}
	}
	for _, s := range list {
		key := s.Key()
		if s.After.IsZero() && record.AnyMatches(watched.Protect, key) {
			protected = append(protected, key.Name.Unicode()+" "+key.Type.String())
		}
		if key.Name == watched.Zone && !s.Before.IsZero() && (key.Type == record.SOA || key.Type == record.NS) {
			apex = append(apex, key.Type.String())
		}
		if s.After.Type == record.ALIAS && slices.Contains(watched.Unanswered, key.Name) && hasAddress(live, key.Name) && !addressStays(list, live, key) {
			empty = append(empty, key.Name.Unicode())
		}
		mail = append(mail, mailGoing(s)...)
		if address := key.Type == record.A || key.Type == record.AAAA; address && s.After.IsZero() && slices.Contains(watched.Hosts, key.Name) &&
			!slices.Contains(hosts, key.Name.Unicode()) && !addressStays(list, live, key) {
			hosts = append(hosts, key.Name.Unicode())
		}
	}
	if manyStop(stopping, live, watched.Zone) {
		speak(GuardNamesStop, finding.Warning, stopping, countNames(len(stopping))+" would answer nothing afterwards: %s.", "add the names to the desired records again.")
	}
	speak(GuardProtected, finding.Error, protected, "The definition protects what would go: %s.", "add them to the desired records again, or remove the pattern from protect.")
	speak(GuardMail, finding.Warning, mail, "Mail would not arrive or would be rejected: %s would go.", "add the records to the desired records again.")
	speak(GuardApex, finding.Error, apex, "What the zone says about its own nameservers would change: %s at the apex.", "leave these records to the provider.")
	speak(GuardAlias, finding.Warning, empty, "An ALIAS would replace addresses, and its target does not answer: %s.", "check the target; the old addresses stay until then.")
	speak(GuardHost, finding.Warning, hosts, "A machine reports its address under a name that would have none: %s.", "put an address there, or remove the host first (beacon host remove).")
	return found
}

// fewNames is how many names may stop answering without a guard, where the apex is not among them and more than half of the names stay.
const fewNames = 2

// manyStop reports whether so many names would stop answering that a user has to allow it: the apex, more than a few and more than a
// fiftieth of all, or half of all.
func manyStop(stopping []string, live record.Contents, zone dnsname.Name) bool {
	if slices.Contains(stopping, zone.Unicode()) {
		return true
	}
	names := map[dnsname.Name]bool{}
	for set := range live.Sets() {
		names[set.Name] = true
	}
	n := len(stopping)
	return n > fewNames && n*50 > len(names) || n > 0 && n*2 >= len(names)
}

func joinNames(names []string) string {
	if len(names) <= 5 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s, and %d more", strings.Join(names[:5], ", "), len(names)-5)
}

// mailGoing names what mail needs of a step that takes it away: mail hosts, who may send (RFC 7208), and keys and policy
// that receivers judge by (RFC 6376, RFC 7489).
func mailGoing(s change.Step) []string {
	key := s.Key()
	name := key.Name.Unicode()
	switch {
	case key.Type == record.MX && s.After.IsZero():
		return []string{name + " MX"}
	case key.Type != record.TXT:
		return nil
	}
	says := func(set record.Set, prefix string) bool {
		return slices.ContainsFunc(set.Data, func(d record.Data) bool {
			return strings.HasPrefix(strings.ToLower(strings.Join(d.Texts(), "")), prefix)
		})
	}
	for prefix, what := range map[string]string{"v=spf1": "SPF", "v=dkim1": "DKIM", "v=dmarc1": "DMARC"} {
		if says(s.Before, prefix) && !says(s.After, prefix) {
			return []string{name + " " + what}
		}
	}
	return nil
}

// addressStays reports whether a name has an address of the other family, or gets one.
func addressStays(list change.List, live record.Contents, key record.Key) bool {
	return hasAddress(list.Apply(live.Filter(func(k record.Key) bool { return k.Name == key.Name })), key.Name)
}

func hasAddress(c record.Contents, name dnsname.Name) bool {
	return !c.Get(record.Key{Name: name, Type: record.A}).IsZero() || !c.Get(record.Key{Name: name, Type: record.AAAA}).IsZero()
}

func countNames(n int) string {
	if n == 1 {
		return "One name that answers now"
	}
	return fmt.Sprintf("%d names that answer now", n)
}

// namesStopping returns the names that have data in live and none once the list is applied.
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

// ConflictFindings returns what a user has to decide before a sync can go on.
func ConflictFindings(conflicts []Item) []finding.Finding {
	found := make([]finding.Finding, 0, len(conflicts))
	for _, item := range conflicts {
		found = append(found, finding.Finding{Code: "conflict", Severity: finding.Error, Subject: item.Key.String(),
			Message: fmt.Sprintf("%s: desired %s, at the provider %s.", item.Why, record.SetText(item.Wanted), record.SetText(item.Live)),
			Remedy:  "Make one like the other: correct the definition, or the record at the provider."})
	}
	return found
}
