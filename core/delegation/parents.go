package delegation

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/spelling"
)

// judgeRegistrar looks for the list that was saved and never made active.
func (j *judge) judgeRegistrar() {
	r := j.plan.Registrar
	if r == nil {
		return
	}
	if r.Problem != "" {
		j.find("registrar-not-asked", finding.Warning, r.Account,
			"The registrar could not be asked: "+r.Problem+".", "Check the account ("+r.Account+") and its credentials.")
		return
	}
	if len(j.plan.Wanted) == 0 && len(r.Active) > 0 {
		if set, complete := parentSet(j.s); complete && len(set) > 0 && !SameSet(set, r.Active) {
			j.find("registrar-differs", finding.Warning, j.short,
				fmt.Sprintf("The registrar has %s active, and the parent serves %s.", joinNames(r.Active), joinNames(set)),
				"Wait for the registry, usually minutes. If this lasts over an hour, ask the registrar.")
		}
	}
	if SameSet(r.Saved, r.Active) || len(r.Saved) == 0 {
		return
	}
	severity := finding.Warning
	if len(j.plan.Wanted) > 0 && SameSet(r.Saved, j.plan.Wanted) {
		severity = finding.Error
	}
	j.find("saved-not-active", severity, j.short,
		fmt.Sprintf("The registrar has saved a new nameserver list (%s) that is not active; active is still %s. "+
			"Waiting will not help.", joinNames(r.Saved), joinNames(r.Active)),
		"Make the saved list active: beacon delegate "+j.short)
}

// judgeParents holds what the parents serve against what is wanted. It reports whether there is a delegation at all.
func (j *judge) judgeParents() bool {
	referring, noName := 0, 0
	var seen []string
	for _, p := range j.s.Parents {
		switch p.Answer {
		case evidence.Referral:
			referring++
			j.set = append(j.set, p.NS...)
		case evidence.NoName, evidence.NoData:
			if p.Answer == evidence.NoName {
				noName++
			}
			seen = append(seen, fmt.Sprintf("%s, asked for %s NS: %s", p.Server, j.short, p.Answer))
		case evidence.Lame:
			j.find("parent-lame", finding.Warning, dnsname.Short(p.Name),
				fmt.Sprintf("The parent's nameserver %s does not answer for %s: %s. Resolvers that ask it have to ask another.", p.Address, inWords(j.s.Zone), p.Problem),
				"Nothing to do at the domain; tell the operator of the parent zone, if this lasts.", fmt.Sprintf("%s: %s", p.Server, p.Problem))
		case evidence.Silent:
			j.deaf = true
			j.find("parent-silent", finding.Warning, dnsname.Short(p.Name),
				fmt.Sprintf("The parent's nameserver %s could not be asked: %s.", p.Address, p.Problem),
				"Nothing to do at the domain; check again later.", fmt.Sprintf("%s: %s", p.Server, p.Problem))
		}
	}
	j.set = dnsname.SortSet(j.set)
	zone := inWords(j.s.Zone)
	switch {
	case referring > 0:
	case j.deaf && len(seen) == 0:
		return false
	case noName > 0:
		j.find("not-registered", finding.Error, j.short,
			fmt.Sprintf("The zone above, %s, does not know this name (NXDOMAIN): it is not registered, or its registration is held back.", zone),
			"Register the domain, or give it nameservers at the registrar; if it is registered, see there whether it is on hold.", seen...)
		return false
	default:
		j.find("not-delegated", finding.Error, j.short,
			fmt.Sprintf("The zone above, %s, has no delegation for this name.", zone),
			fmt.Sprintf("If it is a host in the zone %s, check that zone. Else register the domain, or give it nameservers at the registrar.", zone), seen...)
		return false
	}
	j.agreed = j.parentsAgree()
	if len(j.plan.Wanted) > 0 && j.agreed {
		j.compareWithWanted()
	}
	return true
}

// parentsAgree reports whether all parents that answered give one set; while a change is on its way they may not.
func (j *judge) parentsAgree() bool {
	var first *evidence.ParentAnswer
	same := true
	for i := range j.s.Parents {
		p := &j.s.Parents[i]
		if p.Answer == evidence.Silent || p.Answer == evidence.Lame {
			continue
		}
		if first == nil {
			first = p
		}
		same = same && SameSet(p.NS, first.NS)
	}
	if same {
		return true
	}
	sets := map[string][]string{}
	for _, p := range j.s.Parents {
		if p.Answer == evidence.Silent || p.Answer == evidence.Lame {
			continue
		}
		sets[joinNames(p.NS)] = append(sets[joinNames(p.NS)], dnsname.Short(p.Name))
	}
	var parts []string
	for set, who := range sets {
		slices.Sort(who)
		who = slices.Compact(who)
		if set == "" {
			set = "no delegation"
		}
		parts = append(parts, strings.Join(who, ", ")+" returns "+set)
	}
	j.waiting = true
	j.find("parents-disagree", finding.Warning, j.short,
		"The parent's nameservers do not all say the same: "+joinSorted(parts)+". A change is under way at the registry.",
		"Wait until all of them agree; only then does the time count. If this lasts over an hour, ask the registrar.", parts...)
	return false
}

func (j *judge) compareWithWanted() {
	wanted, domain := j.plan.Wanted, j.short
	lacking, extra := missing(wanted, j.set), missing(j.set, wanted)
	switch {
	case len(lacking) == 0 && len(extra) == 0:
		return
	case len(extra) == len(j.set):
		j.otherSet(domain)
		return
	}
	if j.misspelt(lacking, extra) {
		return
	}
	if len(extra) > 0 {
		j.find("parent-set-mixed", finding.Error, domain,
			fmt.Sprintf("The parent also lists %s, which is not desired: part of all questions goes there.", joinNames(extra)),
			"Remove it from the list at the registrar.")
	}
	if len(lacking) > 0 {
		j.find("parent-set-incomplete", finding.Warning, domain,
			fmt.Sprintf("The parent lists %d of the %d desired nameservers; missing: %s.", len(wanted)-len(lacking), len(wanted), joinNames(lacking)),
			"Add the missing ones at the registrar.")
	}
}

// misspelt names parents' entries that differ from a missing wanted one by a character or two.
func (j *judge) misspelt(lacking, extra []dnsname.Name) bool {
	texts := make([]string, len(lacking))
	for i, n := range lacking {
		texts[i] = n.String()
	}
	found := false
	for _, n := range extra {
		if meant, ok := spelling.Closest(n.String(), texts); ok {
			found = true
			meant = strings.TrimSuffix(meant, ".")
			j.find("nameserver-misspelt", finding.Error, dnsname.Short(n),
				fmt.Sprintf("The parent lists %s; desired is %s. They differ in a character or two.", dnsname.Short(n), meant),
				"Correct the name at the registrar.")
		}
	}
	return found
}

// otherSet returns why the parents still serve a wholly different set.
func (j *judge) otherSet(domain string) {
	r := j.plan.Registrar
	switch {
	case r != nil && SameSet(r.Active, j.plan.Wanted):
		j.waiting = true
		j.find("registry-not-updated", finding.Warning, domain,
			"The registrar has the new list active, and the parent's nameservers still serve the old one: "+joinNames(j.set)+".",
			"Wait for the registry, usually minutes. If this lasts over an hour, ask the registrar.")
	case r != nil && r.Problem == "" && SameSet(r.Saved, j.plan.Wanted):
		// saved-not-active says it all
	case !j.plan.Begun:
		j.unmoved = true
		j.find("not-moved-yet", finding.Notice, domain,
			fmt.Sprintf("The parent serves %s; the desired nameservers are %s. No change has begun.", joinNames(j.set), joinNames(j.plan.Wanted)),
			"When the new zone is ready, move the domain: beacon delegate "+domain)
	case r == nil || r.Account == "" || r.From == "RDAP":
		j.find("parent-serves-other-set", finding.Error, domain,
			fmt.Sprintf("The parent still serves %s; desired is %s. The list is not entered at the registrar, or it is saved there and not active.", joinNames(j.set), joinNames(j.plan.Wanted)),
			"See what to enter, and how far it got: beacon delegate "+domain+" --dry-run")
	default:
		j.find("parent-serves-other-set", finding.Error, domain,
			fmt.Sprintf("The parent serves %s; desired is %s.", joinNames(j.set), joinNames(j.plan.Wanted)),
			"Change the nameservers at the registrar: beacon delegate "+domain)
	}
}

// inWords names a zone for reading.
func inWords(zone dnsname.Name) string {
	if zone.IsRoot() || zone.IsZero() {
		return "the root"
	}
	return dnsname.Short(zone)
}

func joinSorted(parts []string) string {
	slices.Sort(parts)
	return strings.Join(parts, "; ")
}
