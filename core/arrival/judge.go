package arrival

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// Judge turns evidence into a report.
func Judge(e Evidence) Report {
	j := judge{e: e, report: Report{Sites: []SiteView{}, Findings: []finding.Finding{}}}
	j.judgeNames()
	for _, s := range e.Sites {
		j.judgeSite(s)
	}
	j.judgeParts()
	finding.Sort(j.report.Findings)
	return j.report
}

type judge struct {
	e      Evidence
	report Report
	ends   map[dnsname.Name]string
	shared []shared
}

// shared is a finding that is true of several addresses.
type shared struct {
	finding.Finding
	addresses []netip.Addr
}

// findAt notes what is true of an address; said is the message, with %s for the addresses that it is true of.
func (j *judge) findAt(a netip.Addr, code string, severity finding.Severity, subject, said, remedy, seen string) *shared {
	for i := range j.shared {
		if s := &j.shared[i]; s.Code == code && s.Subject == subject && s.Message == said {
			if !slices.Contains(s.addresses, a) { // http and https are one address
				s.addresses = append(s.addresses, a)
			}
			s.Seen = append(s.Seen, seen)
			return s
		}
	}
	j.shared = append(j.shared, shared{finding.Finding{Code: code, Severity: severity, Subject: subject, Message: said, Remedy: remedy, Seen: []string{seen}}, []netip.Addr{a}})
	return &j.shared[len(j.shared)-1]
}

// sayShared returns what was noted of addresses.
func (j *judge) sayShared() {
	for _, s := range j.shared {
		s.Message = strings.Replace(s.Message, "%s", texts(s.addresses), 1)
		j.report.Findings = append(j.report.Findings, s.Finding)
	}
	j.shared = nil
}

func (j *judge) find(code string, severity finding.Severity, subject, message, remedy string, seen ...string) {
	for _, f := range j.report.Findings {
		if f.Code == code && f.Subject == subject && f.Message == message {
			return
		}
	}
	j.report.Findings = append(j.report.Findings, finding.Finding{Code: code, Severity: severity, Subject: subject, Message: message, Remedy: remedy, Seen: seen})
}

func short(n dnsname.Name) string {
	if n.IsRoot() {
		return "."
	}
	return strings.TrimSuffix(n.String(), ".")
}

// given is every address that the nameservers give for a site, sorted.
func (s Site) given() (list []netip.Addr) {
	for _, l := range s.Servers {
		list = append(list, l.Addresses...)
	}
	slices.SortFunc(list, netip.Addr.Compare)
	return slices.Compact(list)
}

// told reports whether any nameserver said where the site is, be it nowhere.
func (s Site) told() bool {
	return slices.ContainsFunc(s.Servers, func(l Lead) bool { return l.Problem == "" })
}

func (s Site) contact(a netip.Addr, secure bool) *Contact {
	for i := range s.Contacts {
		if c := &s.Contacts[i]; c.Address == a && c.Secure == secure {
			return c
		}
	}
	return nil
}

// judgeNames returns which names lead nowhere while others of the domain lead somewhere.
func (j *judge) judgeNames() {
	var with, without []Site
	for _, s := range j.e.Sites {
		if !s.told() {
			continue
		}
		if len(s.given()) > 0 {
			with = append(with, s)
		} else {
			without = append(without, s)
		}
	}
	domain := short(j.e.Domain)
	if len(with) == 0 && len(without) > 0 {
		j.find("site-none", finding.Notice, domain, "None of the usual website names has an address.", "Nothing to do, if there should be no website.")
		return
	}
	for _, s := range without {
		if len(s.Wanted) > 0 {
			continue // it is said below that it does not lead where it shall
		}
		j.find("site-no-address", finding.Warning, short(s.Name), fmt.Sprintf("%s has no address, while %s has: its visitors get no address.", short(s.Name), short(with[0].Name)),
			fmt.Sprintf("Give it the addresses of %s, or a CNAME to it where it is not the apex.", short(with[0].Name)))
	}
}

func (j *judge) judgeSite(s Site) {
	before := len(j.report.Findings)
	v := SiteView{Name: s.Name, Leads: j.addresses(s)}
	name := short(s.Name)
	given := s.given()
	wrongWay := j.judgeLead(s, given)
	v.Behind = j.judgeBehind(s, given)
	looked := j.judgeContacts(s, given)
	j.sayShared()
	v.Ends = j.judgeEnd(s)
	lacks := j.judgeCAA(s)
	v.OverHTTP, v.OverDNS = j.overHTTP(s, given, lacks, v.Behind), j.overDNS(lacks)
	trouble := finding.Worst(j.report.Findings[before:]) == finding.Error
	switch {
	case trouble:
		v.State = NeedsAction
	case len(j.e.Above) > 0 || wrongWay || len(v.Behind) > 0:
		v.State = Settling
	case !s.told():
		v.State = NotChecked
	case len(given) == 0:
		v.State = NoAddress
	case !looked:
		v.State = NotChecked
		j.find("site-not-looked", finding.Notice, name, "Whether anything answers at "+texts(given)+" was not looked at: "+j.whyNot(s, given)+".", "Nothing to do, if this is meant; the setting allowed_networks says which networks may be reached.")
	default:
		v.State = Settled
	}
	if j.ends == nil {
		j.ends = map[dnsname.Name]string{}
	}
	j.ends[s.Name] = v.Ends
	j.report.Sites = append(j.report.Sites, v)
}

func (j *judge) whyNot(s Site, given []netip.Addr) string {
	for _, a := range given {
		for _, secure := range []bool{false, true} {
			if c := s.contact(a, secure); c != nil && c.Problem != "" {
				return c.Problem
			}
		}
	}
	return "no resolver was asked"
}

// addresses lists every address that somebody leads to: the nameservers' first.
func (j *judge) addresses(s Site) []AddressView {
	list := []AddressView{}
	given := s.given()
	all := slices.Clone(given)
	for _, l := range s.Resolvers {
		for _, a := range l.Addresses {
			if !slices.Contains(all, a) {
				all = append(all, a)
			}
		}
	}
	for _, a := range all {
		v := AddressView{Address: a, Given: slices.Contains(given, a), HTTP: s.contact(a, false), HTTPS: s.contact(a, true)}
		if len(s.Wanted) > 0 {
			is := slices.Contains(s.Wanted, a)
			v.Wanted = &is
		}
		list = append(list, v)
	}
	return list
}

// judgeLead holds what nameservers answer against where the site shall be.
func (j *judge) judgeLead(s Site, given []netip.Addr) (wrongWay bool) {
	if len(s.Wanted) == 0 {
		return false
	}
	for _, l := range s.Servers {
		if l.Problem != "" || slices.Equal(l.Addresses, s.Wanted) {
			continue
		}
		j.find("site-elsewhere", finding.Warning, short(s.Name), fmt.Sprintf("%s returns %s for %s, and the definition has %s.", l.Who, texts(l.Addresses), short(s.Name), texts(s.Wanted)),
			"See what a sync would change: beacon diff "+short(j.e.Domain)+". If it was synced a moment ago, check again.", l.Who+": "+texts(l.Addresses))
		return true
	}
	return false
}

// judgeBehind returns which resolvers lead elsewhere, and whether who is led there finds anything.
func (j *judge) judgeBehind(s Site, given []netip.Addr) (list []Behind) {
	if !s.told() {
		return nil
	}
	var seen, gone []string
	for _, r := range s.Resolvers {
		if r.Problem != "" || slices.Equal(r.Addresses, given) {
			continue
		}
		if len(r.Addresses) > 0 && !slices.ContainsFunc(r.Addresses, func(a netip.Addr) bool { return !slices.Contains(given, a) }) && !j.oneNetworkOnly(r.Addresses, given) {
			continue // some of several addresses, as a set that is answered in parts would give
		}
		list = append(list, Behind{Who: r.Who, Addresses: r.Addresses, Until: r.Until})
		seen = append(seen, r.Who+": "+texts(r.Addresses))
		for _, a := range r.Addresses {
			if c, d := s.contact(a, false), s.contact(a, true); !slices.Contains(given, a) && c != nil && d != nil && dead(c) && dead(d) && !slices.Contains(gone, a.String()) {
				gone = append(gone, a.String())
			}
		}
	}
	if len(list) == 0 {
		return nil
	}
	name := short(s.Name)
	j.find("site-behind", finding.Notice, name, fmt.Sprintf("%s, and the nameservers return %s.", behindText(list), texts(given)),
		"Keep the old host running until their copies have expired; an authority whose resolver is as far behind would look for a certificate's proof at the old host.", seen...)
	if len(gone) > 0 {
		j.find("old-host-stopped", finding.Warning, name, fmt.Sprintf("Users of %s still get %s, where nothing answers any more.", whos(list), strings.Join(gone, " and ")),
			"Start the old host again until the old answers have expired from every cache, and have it serve the site or redirect.", seen...)
	}
	return list
}

// oneNetworkOnly reports whether a leaves one of the networks out that b has.
func (j *judge) oneNetworkOnly(a, b []netip.Addr) bool {
	return hasNetwork(a, false) != hasNetwork(b, false) || hasNetwork(a, true) != hasNetwork(b, true)
}

func hasNetwork(list []netip.Addr, six bool) bool {
	return slices.ContainsFunc(list, func(a netip.Addr) bool { return a.Is6() == six })
}

// behindText returns who still leads where, those together who say the same.
func behindText(list []Behind) string {
	var parts []string
	for i, b := range list {
		same := func(o Behind) bool {
			return slices.Equal(o.Addresses, b.Addresses) && (o.Until == nil) == (b.Until == nil) && (b.Until == nil || o.Until.Equal(*b.Until))
		}
		if slices.ContainsFunc(list[:i], same) {
			continue
		}
		group := slices.DeleteFunc(slices.Clone(list), func(o Behind) bool { return !same(o) })
		text := fmt.Sprintf("%s still return%s %s", whos(group), third(len(group)), texts(b.Addresses))
		if b.Until != nil {
			text += " until " + day(*b.Until) + " at the latest"
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

func whos(list []Behind) string {
	names := make([]string, len(list))
	for i, b := range list {
		names[i] = b.Who
	}
	return strings.Join(names, ", ")
}

func third(n int) string {
	if n == 1 {
		return "s"
	}
	return ""
}

func texts(list []netip.Addr) string {
	if len(list) == 0 {
		return "nowhere"
	}
	parts := make([]string, len(list))
	for i, a := range list {
		parts[i] = a.String()
	}
	return strings.Join(parts, ", ")
}

// judgeParts says that names of one domain end in different places.
func (j *judge) judgeParts() {
	apex := j.ends[j.e.Domain]
	for _, s := range j.report.Sites {
		if s.Name == j.e.Domain || apex == "" || s.Ends == "" || !strings.HasPrefix(short(s.Name), "www.") {
			continue
		}
		if host(apex) != host(s.Ends) {
			j.find("www-differs", finding.Notice, short(s.Name), fmt.Sprintf("Visitors to %s arrive at %s, visitors to %s at %s.", short(s.Name), s.Ends, short(j.e.Domain), apex),
				"Have one of the two redirect to the other, so that people and search engines find one site.", short(s.Name)+": "+s.Ends, short(j.e.Domain)+": "+apex)
		}
	}
}
