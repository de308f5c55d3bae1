// Package handover knows the steps of moving a domain's delegation to another set of nameservers: what must hold
// before the registrar is asked, and what is to be done next. It is pure; asking servers is left to others.
package handover

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/spelling"
)

// maxNameservers is the most that a delegation can name and still fit everywhere (the root has 13 itself).
const maxNameservers = 13

// ReadSet reads a nameserver list as people type it: with or without final dots, in any case and order. What no
// server need be asked about is found here: malformed and repeated names, too many or too few of them, and names that
// are not among those the provider assigned. An empty assigned list means that nothing is known of that.
func ReadSet(typed []string, assigned []dnsname.Name) ([]dnsname.Name, []finding.Finding) {
	var names []dnsname.Name
	var found []finding.Finding
	report := func(code string, severity finding.Severity, subject, message, remedy string) {
		found = append(found, finding.Finding{Code: code, Severity: severity, Subject: subject, Message: message, Remedy: remedy})
	}
	for _, text := range typed {
		text = strings.TrimSpace(text)
		name, err := dnsname.Parse(text)
		switch {
		case err != nil:
			report("nameserver-malformed", finding.Error, text, capital(err.Error())+".", "Write a host name such as ns1.provider.example.")
		case slices.Contains(names, name):
			report("nameserver-repeated", finding.Error, text, fmt.Sprintf("%s is in the list twice.", name), "Remove one of them.")
		default:
			names = append(names, name)
		}
	}
	for _, name := range names {
		if len(assigned) > 0 && !slices.Contains(assigned, name) {
			found = append(found, notAssigned(name, assigned, names))
		}
	}
	switch {
	case len(names) == 0 && len(found) == 0:
		report("nameservers-missing", finding.Error, "nameservers", "The list is empty.", "Give at least two nameservers.")
	case len(names) == 1:
		report("nameserver-single", finding.Warning, names[0].String(), "One nameserver alone is a single point of failure.", "Give at least two.")
	case len(names) > maxNameservers:
		report("nameservers-too-many", finding.Error, "nameservers",
			fmt.Sprintf("The list has %d names; at most %d fit.", len(names), maxNameservers), "Remove some.")
	}
	finding.Sort(found)
	return dnsname.SortSet(names), found
}

// notAssigned says that a name of a list is not assigned, and which one is meant: one that the list does not have yet.
func notAssigned(name dnsname.Name, assigned, listed []dnsname.Name) finding.Finding {
	var texts, missing []string
	for _, n := range assigned {
		texts = append(texts, n.String())
		if !slices.Contains(listed, n) {
			missing = append(missing, n.String())
		}
	}
	f := finding.Finding{Code: GateNotAssigned, Severity: finding.Error, Subject: name.String(),
		Message: fmt.Sprintf("%s is not among the nameservers that the provider assigned to this zone (%s).", name, strings.Join(texts, ", ")),
		Remedy:  "Use the assigned ones. A set of your own is allowed by name: --override " + GateNotAssigned + "."}
	if meant, ok := spelling.Closest(name.String(), missing); ok {
		f.Code = GateMisspelt
		f.Message = fmt.Sprintf("%s is not assigned to this zone; %s is. They differ in a character or two.", name, meant)
		f.Remedy = "Write " + meant
	}
	return f
}

// Refusals returns the errors of a list that nobody can pass: it is malformed, or no delegation could hold it.
func Refusals(found []finding.Finding) []finding.Finding {
	return slices.DeleteFunc(slices.Clone(found), func(f finding.Finding) bool {
		return f.Severity != finding.Error || f.Code == GateMisspelt || f.Code == GateNotAssigned
	})
}

// NeedReason returns those of the gates that are passed by name which lose answers when passed too early: they need a reason.
func NeedReason(overridden []string) []string {
	return slices.DeleteFunc(slices.Clone(overridden), func(code string) bool { return code == GateNotAssigned })
}

// Step is what a handover does next.
type Step string

// The steps of the switch itself.
const (
	PutHost  Step = "glue"     // give the registrar the addresses of a nameserver within the domain
	Save     Step = "save"     // store the list at the registrar
	Activate Step = "activate" // make the stored list active
	Watch    Step = "watch"    // the registrar has it active; see it settle
)

// Next returns the next step from what the registrar has. hosts are the nameservers within the domain that need glue, where the registrar takes
// it.
func Next(wanted []dnsname.Name, hosts []delegation.HostObject, r delegation.Registration) Step {
	switch {
	case len(OpenHosts(hosts, r)) > 0: // before the list: some registries refuse a list that names a host they do not know
		return PutHost
	case delegation.SameSet(r.Active, wanted) && delegation.SameSet(r.Saved, wanted):
		return Watch
	case delegation.SameSet(r.Saved, wanted):
		return Activate
	}
	return Save
}

// OpenHosts returns the hosts that the registrar does not have with just these addresses.
func OpenHosts(hosts []delegation.HostObject, r delegation.Registration) (open []delegation.HostObject) {
	for _, h := range hosts {
		same := slices.ContainsFunc(r.Hosts, func(o delegation.HostObject) bool { return o.Name == h.Name && slices.Equal(o.Addresses, h.Addresses) })
		if !same {
			open = append(open, h)
		}
	}
	return open
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
