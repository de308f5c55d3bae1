package handover

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover/compare"
	"beacon/core/wording"
)

// The codes of the safety gates before a domain moves: passed too early, each of them loses answers. A user passes one by naming it,
// with a reason.
const (
	GateUnresolvable = "nameserver-unresolvable"
	GateNotReady     = "nameserver-not-ready"
	GateUnheard      = "nameserver-unheard"
	GateNoTCP        = "nameserver-no-tcp"
	GateFamily       = "family-unreachable"
	GateAnswers      = "sides-differ"
	GateDS           = "ds-present"
	GateDSWait       = "ds-not-expired"
	GateDSUnknown    = "ds-not-asked"
	GateDSPending    = "ds-not-published"
	GateCDS          = "cds-published"
	GateCSYNC        = "csync-published"
	GateOldNames     = "old-side-names-itself"
	GateLocked       = "registrar-locked"
	GateHold         = "registration-on-hold"
	GateMisspelt     = "nameserver-misspelt"
	GateNotAssigned  = "nameserver-not-assigned"
)

// Facts are what is known before the registrar is asked. Missing evidence closes a gate.
type Facts struct {
	Domain       dnsname.Name
	Target       []dnsname.Name // the new set
	Old          []dnsname.Name // the set that the parents serve; empty for a first delegation
	Sweep        evidence.Sweep // of parents, both sides and vantage points
	NoIPv6       bool           // a setting says that nobody here can ask over IPv6, and that this is known
	Registration delegation.Registration
	DS           delegation.DSState // as earlier sweeps established it
	KeyTTL       uint32             // K: of the old zone's DNSKEY set, seconds; 0 where it was not heard
	Margin       time.Duration      // A: for many machines behind one address
	Differences  []compare.Difference
	Agreed       string // digest of the differences that the user agreed to
}

// Gates judges whether a domain may move. Errors are closed gates; notices say what a user should know. A side being left that answers
// nothing, or does not exist, closes no gate: then only those of the new side count.
func Gates(f Facts) []finding.Finding {
	g := gates{Facts: f}
	g.judgeTarget()
	alive := g.judgeOld()
	g.judgeDS()
	g.judgeCDS()
	g.judgeRegistration()
	if alive {
		g.judgeAnswers()
	}
	finding.Sort(g.found)
	return g.found
}

// Closed returns the gates that are closed and were not passed by name.
func Closed(found []finding.Finding, overridden []string) []finding.Finding {
	return slices.DeleteFunc(slices.Clone(found), func(f finding.Finding) bool {
		return f.Severity != finding.Error || slices.Contains(overridden, f.Code)
	})
}

type gates struct {
	Facts
	found []finding.Finding
}

func (g *gates) say(code string, severity finding.Severity, subject, message, remedy string, seen ...string) {
	g.found = append(g.found, finding.Finding{Code: code, Severity: severity, Subject: subject, Message: message, Remedy: remedy, Seen: seen})
}

// judgeTarget asks that every address of every new nameserver answers with authority, over UDP and TCP.
func (g *gates) judgeTarget() {
	_, blind := g.Sweep.Sighted()
	var unreachable []string
	for _, name := range g.Target {
		short := dnsname.Short(name)
		if p := slices.IndexFunc(g.Sweep.NoAddress, func(p evidence.NameProblem) bool { return p.Name == name }); p >= 0 {
			remedy := "Correct the name."
			if name.IsAtOrBelow(g.Domain) {
				remedy = "It is within the domain: add its A and AAAA records to the zone, so that the parent can have them as glue."
			}
			g.say(GateUnresolvable, finding.Error, short, fmt.Sprintf("%s resolves to no address: %s.", short, g.Sweep.NoAddress[p].Problem), remedy)
			continue
		}
		heard, unheard := 0, 0
		for _, a := range g.Sweep.Servers {
			if a.Name != name {
				continue
			}
			six := evidence.AddressOf(a.Server).Is6()
			if elsewhere, ok := g.elsewhere(a.Server); blind && six && ok {
				a = elsewhere
			} else if blind && six {
				unheard++
				unreachable = append(unreachable, a.Server.String())
				continue
			}
			heard++
			g.judgeServer(a)
		}
		if heard == 0 {
			why := "No address of it was asked."
			if unheard > 0 {
				why = "It has IPv6 addresses only, and they could not be asked."
			}
			g.say(GateUnheard, finding.Error, short, why+" Whether it answers for the zone is not known.", "Check the network, or add a vantage point that reaches it.")
		}
	}
	if len(unreachable) > 0 && !g.NoIPv6 {
		g.say(GateFamily, finding.Error, dnsname.Short(g.Domain), fmt.Sprintf("This machine has no IPv6, and no vantage point has: %d addresses of the new nameservers were not asked.", len(unreachable)),
			"Add a vantage point with IPv6, or record once and for all that IPv6 is not asked: checks.without_ipv6: true.", unreachable...)
	}
}

// elsewhere returns what a vantage point heard of an address that this machine cannot reach.
func (g *gates) elsewhere(s evidence.Server) (evidence.ServerAnswer, bool) {
	for _, p := range g.Sweep.Places {
		for _, a := range p.Servers {
			if a.Address == s.Address && a.Answer != evidence.Silent {
				return a, true
			}
		}
	}
	return evidence.ServerAnswer{}, false
}

func (g *gates) judgeServer(a evidence.ServerAnswer) {
	switch {
	case a.Answer != evidence.Positive:
		g.say(GateNotReady, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s does not answer for the zone: %s.", a.Server, orSilent(a.Problem)),
			"Write the zone there first: beacon sync "+dnsname.Short(g.Domain)+".")
	case a.NoUDP:
		g.say(GateNotReady, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s answers over TCP only; resolvers ask over UDP.", a.Server), "Ask its operator to open UDP port 53.")
	case a.NoTCP != "":
		g.say(GateNoTCP, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s does not answer over TCP: %s (RFC 7766).", a.Server, a.NoTCP), "Ask its operator to open TCP port 53.")
	}
}

func orSilent(problem string) string {
	if problem == "" {
		return "no answer"
	}
	return problem
}

// judgeOld reports whether anything of the side being left answers.
func (g *gates) judgeOld() (alive bool) {
	if len(g.Old) == 0 {
		g.say("first-delegation", finding.Notice, dnsname.Short(g.Domain), "The parents do not delegate the domain yet: there is nothing to compare with.", "")
		return false
	}
	for _, a := range evidence.ServersOf(g.Sweep, g.Old) {
		alive = alive || a.Answer == evidence.Positive
	}
	if !alive {
		g.say("old-side-silent", finding.Notice, dnsname.Short(g.Domain), "None of the nameservers being left answers for the zone. The domain is down until it moves.", "Move it now.")
	}
	return alive
}

// oldNames is the finding of old nameservers that keep naming themselves when a DS of the new zone is to be published.
func oldNames(c Course) finding.Finding {
	return finding.Finding{Code: GateOldNames, Severity: finding.Error, Subject: dnsname.Short(c.Domain),
		Message: "The old nameservers still answer for the zone and name themselves in its NS records. Resolvers that keep asking there would find answers that do not fit the new DS.",
		Remedy:  "Remove the zone at the old provider, or change its NS records there to " + dnsname.ShortList(c.New) + "."}
}

// unheardKeyTTL stands for the TTL of a DNSKEY set that was never heard: two days, in seconds.
const unheardKeyTTL = 172800

// judgeDS asks that no validating resolver expects signatures that the new side does not give: no DS at any parent, and its time and
// that of the old keys over; or both sides serve the same keys, and what the new one answers validates under the DS.
func (g *gates) judgeDS() {
	if len(g.Old) == 0 {
		if held := g.registeredDS(); len(held) > 0 && !g.signedWith(held) {
			g.say(GateDS, finding.Error, dnsname.Short(g.Domain), "The registrar has a DS for the domain, which the parent will serve with the delegation, and the new nameservers do not serve the zone signed with a key that it fits: validating resolvers would get no answer.",
				"Remove the DS at the registrar first.")
		}
		return
	}
	short := dnsname.Short(g.Domain)
	var ds dnssec.Records
	for _, p := range g.Sweep.Parents {
		if p.Answer == evidence.Referral && len(p.DS.DS()) == 0 && len(g.Registration.DS)+len(g.Registration.Keys) > 0 {
			g.say(GateDSPending, finding.Error, short, fmt.Sprintf("The registrar has a DS that %s does not serve yet: when it comes, and for how long caches hold it then, is not known.", p.Server),
				"Wait until every nameserver of the parent serves it. Then remove it.")
		}
		if len(p.DS.DS()) > 0 {
			ds = p.DS
		} else if p.Answer == evidence.Referral && !p.AskedDS {
			g.say(GateDSUnknown, finding.Error, short, fmt.Sprintf("%s was not asked for DS records, or did not answer.", p.Server), "Try again when every nameserver of the parent answers.")
		}
	}
	switch {
	case len(ds) > 0 && g.sharedKeys(ds):
		g.say("keys-shared", finding.Notice, short, "A DS is published, and both sides serve the same keys and valid signatures.", "")
	case len(ds) > 0:
		g.say(GateDS, finding.Error, short, "The parents publish a DS, and the new nameservers do not serve the zone signed with the same keys: validating resolvers would get no answer.",
			"Remove the DS at the registrar, and wait until it has expired. Keep the old zone signed until then.")
	case !g.DS.Changed.IsZero() && g.DS.Text == "":
		keys, until := insecureFrom(g.DS, g.KeyTTL, g.Margin)
		if g.Sweep.Ended.Before(until) {
			g.say(GateDSWait, finding.Error, short, fmt.Sprintf("The DS was removed at %s. Caches may hold it for %d s and the old keys for %d s more: they expire by %s.",
				clock(g.DS.Changed), g.DS.Held, keys, clock(until)), "Wait until then. Keep the old zone signed.")
		}
	}
}

// judgeCDS asks that no parent which scans publishes a DS by itself while the domain moves (RFC 7344, RFC 8078 section 3): neither side asks for one, unless both are
// signed with the same keys. A request for removal is none of this.
func (g *gates) judgeCDS() {
	if len(g.Old) == 0 {
		return
	}
	if seen := copying(g.Sweep, slices.Concat(g.Old, g.Target)); len(seen) > 0 {
		g.say(GateCSYNC, finding.Error, dnsname.Short(g.Domain), "A nameserver asks the parent to copy NS and address records from the zone (CSYNC). A parent that scans for such records would change the delegation by itself during the move.",
			"Remove the CSYNC record from both zones.", seen...)
	}
	var seen []string
	var texts []string // of the keys of each server
	for _, a := range slices.Concat(evidence.ServersOf(g.Sweep, g.Old), evidence.ServersOf(g.Sweep, g.Target)) {
		if a.Answer != evidence.Positive {
			continue
		}
		texts = append(texts, strings.Join(keyTexts(a.Keys), "; "))
		if rr := a.Requests.ForDS(); rr != nil {
			seen = append(seen, a.Server.String()+": "+strings.ReplaceAll(rr.String(), "\t", " "))
		}
	}
	if len(seen) == 0 || texts[0] != "" && len(slices.Compact(texts)) == 1 {
		return
	}
	g.say(GateCDS, finding.Error, dnsname.Short(g.Domain), "A nameserver asks the parent for a DS (CDS or CDNSKEY), and the two sides are not signed with the same keys. A parent that scans for such "+
		"records would publish it during the move: validating resolvers would get no answer.", "Remove the CDS and CDNSKEY records from both zones, or have them ask for removal (CDS 0).", seen...)
}

// copying returns which nameservers of a set ask the parent to copy records from the zone (RFC 7477).
func copying(s evidence.Sweep, set []dnsname.Name) (seen []string) {
	for _, a := range evidence.ServersOf(s, set) {
		for _, rr := range a.Requests {
			if _, ok := rr.(*dns.CSYNC); ok {
				seen = append(seen, a.Server.String()+": "+strings.ReplaceAll(rr.String(), "\t", " "))
			}
		}
	}
	return seen
}

// earlyDS returns the gate that is closed where a new nameserver asks the parent for a DS before caches have left the old ones: a parent that scans would publish it too early.
func earlyDS(c Course, s evidence.Sweep) (list []finding.Finding) {
	for _, a := range evidence.ServersOf(s, c.New) {
		if rr := a.Requests.ForDS(); rr != nil && len(c.Old) > 0 && !slices.Contains(c.Override, GateCDS) {
			return []finding.Finding{{Code: GateCDS, Severity: finding.Error, Subject: dnsname.Short(c.Domain), Message: "The new zone asks the parent for a DS (CDS or CDNSKEY) while caches may still ask the old nameservers: a parent that scans would publish it too early.",
				Remedy: "Remove the CDS and CDNSKEY records from the new zone until the move has settled.", Seen: []string{a.Server.String() + ": " + strings.ReplaceAll(rr.String(), "\t", " ")}}}
		}
	}
	return nil
}

// insecureFrom returns from when on no cache holds a DS that was removed, nor keys that it made good, and for how long those are held, in seconds.
func insecureFrom(ds delegation.DSState, keyTTL uint32, margin time.Duration) (keys uint32, at time.Time) {
	if keys = keyTTL; keys == 0 {
		keys = unheardKeyTTL
	}
	return keys, ds.Changed.Add(time.Duration(ds.Held)*time.Second + time.Duration(keys)*time.Second + margin)
}

// registeredDS returns what the registrar has of a DS, as records; keys that it keeps instead count as the DS that follow from them.
func (g *gates) registeredDS() (list dnssec.Records) {
	owner := g.Domain.String()
	for _, d := range g.Registration.DS {
		rr, err := dns.NewRR(owner + " 0 IN DS " + string(d))
		if err != nil { // unreadable, and there all the same
			rr = &dns.DS{Hdr: dns.RR_Header{Name: owner, Rrtype: dns.TypeDS, Class: dns.ClassINET}}
		}
		list = append(list, rr)
	}
	for _, d := range g.Registration.Keys {
		rr, err := dns.NewRR(owner + " 0 IN DNSKEY " + string(d))
		if key, ok := rr.(*dns.DNSKEY); err == nil && ok && key.ToDS(dns.SHA256) != nil {
			list = append(list, key.ToDS(dns.SHA256))
		} else {
			list = append(list, &dns.DS{Hdr: dns.RR_Header{Name: owner, Rrtype: dns.TypeDS, Class: dns.ClassINET}})
		}
	}
	return list
}

// signedWith reports whether every new nameserver that answers serves a key that one of some DS records fits.
func (g *gates) signedWith(ds dnssec.Records) bool {
	heard := false
	for _, a := range evidence.ServersOf(g.Sweep, g.Target) {
		if a.Answer != evidence.Positive {
			continue
		}
		heard = true
		if len(dnssec.Matching(dnssec.Usable(ds.DS()), a.Keys.Keys())) == 0 {
			return false
		}
	}
	return heard
}

// sharedKeys reports whether both sides serve the same DNSKEY set, a DS fits one of its keys, and the new side's answers validate.
func (g *gates) sharedKeys(ds dnssec.Records) bool {
	target, old := evidence.ServersOf(g.Sweep, g.Target), evidence.ServersOf(g.Sweep, g.Old)
	if len(target) == 0 || len(old) == 0 {
		return false
	}
	first := target[0].Keys.Keys()
	if len(first) == 0 || len(dnssec.Matching(dnssec.Usable(ds.DS()), first)) == 0 {
		return false
	}
	want := keyTexts(target[0].Keys)
	zone := g.Domain.String()
	for _, a := range slices.Concat(target, old) {
		if a.Answer == evidence.Positive && !slices.Equal(keyTexts(a.Keys), want) {
			return false
		}
	}
	for _, a := range target {
		for _, t := range []uint16{typeDNSKEY, typeSOA, typeNS} {
			records := a.Signed
			if t == typeDNSKEY {
				records = a.Keys
			}
			set, sigs := records.Set(zone, t)
			if len(set) == 0 || dnssec.Verify(set, sigs, first, zone, g.Sweep.Ended).Fault != nil {
				return false
			}
		}
	}
	return true
}

// The types that have to be signed for a zone to be found valid at all (RFC 4034 section 2, RFC 1035).
const (
	typeNS     = 2
	typeSOA    = 6
	typeDNSKEY = 48
)

func keyTexts(r dnssec.Records) (texts []string) {
	for _, k := range r.Keys() {
		texts = append(texts, fmt.Sprintf("%d %d %d %s", k.Flags, k.Protocol, k.Algorithm, k.PublicKey))
	}
	slices.Sort(texts)
	return texts
}

func clock(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }

// judgeRegistration asks that the registrar can change the list and the registry publishes it (RFC 8056, RFC 5731 section 2.3).
func (g *gates) judgeRegistration() {
	for _, status := range g.Registration.Status {
		switch s := strings.ToLower(status); {
		case strings.HasSuffix(s, "update prohibited"):
			g.say(GateLocked, finding.Error, dnsname.Short(g.Domain), fmt.Sprintf("The registration is locked (%s): the registry refuses changes of nameservers.", status), unlock(g.Domain, s))
		case strings.HasSuffix(s, "hold"):
			g.say(GateHold, finding.Error, dnsname.Short(g.Domain), fmt.Sprintf("The registration is on hold (%s): the parents do not delegate the domain, whatever its nameservers are.", status), "Ask the registrar why, and have the hold ended.")
		}
	}
}

// unlock is what to do about a lock.
func unlock(domain dnsname.Name, status string) string {
	if strings.HasPrefix(status, "server") {
		return "Ask the registrar to have the registry lift it."
	}
	return "Lift it: beacon registrar unlock " + dnsname.Short(domain) + ", or at the registrar's site."
}

// mostShown is how many differences a finding names.
const mostShown = 12

// judgeAnswers asks that both sides answer the same, or that the user agreed to just these differences.
func (g *gates) judgeAnswers() {
	open := compare.Open(g.Differences)
	if ttls := len(g.Differences) - len(open); ttls > 0 {
		g.say("ttls-differ", finding.Notice, dnsname.Short(g.Domain), wording.Counted(ttls, "record set")+" with another TTL on the new side; the data is the same.", "")
	}
	digest := compare.Digest(g.Differences)
	if len(open) == 0 {
		return
	}
	var seen []string
	for _, d := range open[:min(len(open), mostShown)] {
		seen = append(seen, fmt.Sprintf("%s: %s; old: %s; new: %s", d.Key, d.Kind, d.Old, d.New))
	}
	if len(open) > mostShown {
		seen = append(seen, fmt.Sprintf("and %d more", len(open)-mostShown))
	}
	if g.Agreed == digest {
		g.say("differences-agreed", finding.Notice, dnsname.Short(g.Domain), wording.Counted(len(open), "record set")+" with other data on the new side, as agreed.", "", seen...)
		return
	}
	g.say(GateAnswers, finding.Error, dnsname.Short(g.Domain), wording.Counted(len(open), "record set")+" with other data on the new side than on the old one.",
		"Correct the zone and sync it. If just these differences are meant, agree to them: --agree "+digest+".", seen...)
}
