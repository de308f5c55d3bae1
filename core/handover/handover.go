// Package handover knows the steps of moving a domain's delegation to another set of nameservers: what must hold
// before the registrar is asked, and what is to be done next. It is pure; asking servers is left to others.
package handover

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
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
			report("nameserver-repeated", finding.Error, text, fmt.Sprintf("%s stands in the list twice.", name), "Take one of them out.")
		default:
			names = append(names, name)
			if len(assigned) > 0 && !slices.Contains(assigned, name) {
				found = append(found, notAssigned(name, assigned))
			}
		}
	}
	switch {
	case len(names) == 0 && len(found) == 0:
		report("nameservers-missing", finding.Error, "nameservers", "The list is empty.", "Give at least two nameservers.")
	case len(names) == 1:
		report("nameserver-single", finding.Warning, names[0].String(), "One nameserver alone is a single point of failure.", "Give at least two.")
	case len(names) > maxNameservers:
		report("nameservers-too-many", finding.Error, "nameservers",
			fmt.Sprintf("The list has %d names; at most %d fit.", len(names), maxNameservers), "Take some out.")
	}
	finding.Sort(found)
	return dnsname.SortSet(names), found
}

func notAssigned(name dnsname.Name, assigned []dnsname.Name) finding.Finding {
	texts := make([]string, len(assigned))
	for i, n := range assigned {
		texts[i] = n.String()
	}
	f := finding.Finding{Code: "nameserver-not-assigned", Severity: finding.Error, Subject: name.String(),
		Message: fmt.Sprintf("%s is not among the nameservers that the provider assigned to this zone (%s).", name, strings.Join(texts, ", ")),
		Remedy:  "Use the assigned ones."}
	if meant, ok := spelling.Closest(name.String(), texts); ok {
		f.Code = "nameserver-misspelt"
		f.Message = fmt.Sprintf("%s is not assigned to this zone; %s is. They differ in a character or two.", name, meant)
		f.Remedy = "Write " + meant
	}
	return f
}

// Ready judges whether every new nameserver can be found and already answers for the zone. A domain moved to servers
// that do not know it is down for everybody who asks anew.
func Ready(set []dnsname.Name, servers []evidence.ServerAnswer, noAddress []evidence.NameProblem) []finding.Finding {
	var found []finding.Finding
	for _, p := range noAddress {
		if slices.Contains(set, p.Name) {
			found = append(found, finding.Finding{Code: "nameserver-unresolvable", Severity: finding.Error, Subject: p.Name.String(),
				Message: fmt.Sprintf("%s leads to no address: %s.", p.Name, p.Problem), Remedy: "Correct the name."})
		}
	}
	for _, a := range servers {
		if slices.Contains(set, a.Name) && a.Answer != evidence.Positive {
			found = append(found, finding.Finding{Code: "nameserver-not-ready", Severity: finding.Error, Subject: a.Name.String(),
				Message: fmt.Sprintf("%s at %s does not answer for the zone: %s.", a.Name, a.Address, a.Problem),
				Remedy:  "Put the zone there first (beacon sync), then delegate."})
		}
	}
	finding.Sort(found)
	return found
}

// Differences compares the watched answers of the old and the new servers: what visitors would notice of the switch.
func Differences(oldSet, newSet []dnsname.Name, servers []evidence.ServerAnswer) []finding.Finding {
	before, after := map[string]string{}, map[string]string{}
	for _, a := range servers {
		for _, o := range a.Sets {
			if slices.Contains(oldSet, a.Name) {
				before[o.Key.String()] = o.Text()
			}
			if slices.Contains(newSet, a.Name) {
				after[o.Key.String()] = o.Text()
			}
		}
	}
	var found []finding.Finding
	for key, was := range before {
		if is, asked := after[key]; asked && is != was {
			found = append(found, finding.Finding{Code: "answer-will-change", Severity: finding.Notice, Subject: key,
				Message: fmt.Sprintf("The old nameservers give %s, the new ones %s.", was, is),
				Remedy:  "If that is not meant, correct the zone first."})
		}
	}
	finding.Sort(found)
	return found
}

// Step is what a handover does next.
type Step string

// The steps of the switch itself.
const (
	Save     Step = "save"     // store the list at the registrar
	Activate Step = "activate" // bring the stored list into force
	Watch    Step = "watch"    // the registrar has it in force; see it arrive
)

// Next tells the next step from what the registrar holds.
func Next(wanted []dnsname.Name, r delegation.Registration) Step {
	switch {
	case delegation.SameSet(r.Active, wanted) && delegation.SameSet(r.Saved, wanted):
		return Watch
	case delegation.SameSet(r.Saved, wanted):
		return Activate
	}
	return Save
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
