package handover

import (
	"fmt"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
)

// The codes of the gates before a DS set is published: passed too early, validating resolvers get no answer.
const (
	GateDSUnsigned   = "ds-unsigned"
	GateDSKeysDiffer = "ds-keys-differ"
	GateDSInvalid    = "ds-signatures-invalid"
	GateDSParent     = "ds-parent-unfit"
)

// DSFacts are what is known before the DS set of a domain is changed.
type DSFacts struct {
	Domain       dnsname.Name
	Active       []dnsname.Name // nameservers that the parents serve
	Sweep        evidence.Sweep
	Registration delegation.Registration
	Remove       bool // no DS is to stay
	Compare      bool // nothing is to be published
}

// served reports whether a parent serves a DS.
func (f DSFacts) served() bool {
	return slices.ContainsFunc(f.Sweep.Parents, func(a evidence.ParentAnswer) bool { return len(a.DS.DS()) > 0 })
}

// published reports whether there is a DS anywhere, or may be: a parent that was not asked may have one.
func (f DSFacts) published() bool {
	notAsked := func(a evidence.ParentAnswer) bool { return !a.AskedDS }
	return f.served() || len(f.Registration.DS) > 0 || len(f.Sweep.Parents) == 0 || slices.ContainsFunc(f.Sweep.Parents, notAsked)
}

// UnfitParent returns a gate for accounts that cannot keep the DS set of a domain which is delegated in a zone placed there; none where all can.
func UnfitParent(domain, parent dnsname.Name, accounts []string) []finding.Finding {
	if len(accounts) == 0 {
		return nil
	}
	return []finding.Finding{{Code: GateDSParent, Severity: finding.Error, Subject: dnsname.Short(domain),
		Message: fmt.Sprintf("The zone %s is placed at %s, where the provider cannot keep DS records.", parent.Unicode(), strings.Join(accounts, ", ")),
		Remedy:  "Place the zone elsewhere first, or leave this domain without a DS."}}
}

// DSPlan is the DS set that fits what a domain's nameservers serve.
type DSPlan struct {
	DS    []record.Data // SHA-256 (RFC 4509), a record for each key that signs the key set; sorted
	Keys  []record.Data // those keys, as DNSKEY data; sorted
	Found []finding.Finding
}

// PlanDS computes the DS set from the keys that the active nameservers serve, and judges whether it may be published: every one of them must
// serve the same keys, and signatures that validate under it. Removing a DS set loses no answers; then it only says what has to stay.
func PlanDS(f DSFacts) (p DSPlan) {
	g := gates{Facts: Facts{Domain: f.Domain, Registration: f.Registration, Sweep: f.Sweep}}
	g.judgeRegistration()
	short := dnsname.Short(f.Domain)
	servers := evidence.ServersOf(f.Sweep, f.Active)
	if f.Remove {
		if f.served() {
			g.say("ds-keep-signed", finding.Notice, short, "Caches may hold the DS after it is gone from the parent: the zone has to stay signed until then.", "Follow it: beacon watch "+short+".")
		}
		finding.Sort(g.found)
		return DSPlan{Found: g.found}
	}
	var keys dnssec.Records
	for _, a := range servers {
		if len(a.Keys.Keys()) > 0 {
			keys = a.Keys
			break
		}
	}
	if len(keys.Keys()) == 0 {
		severity, remedy := finding.Error, "Sign the zone first."
		if f.Compare && !f.published() {
			severity, remedy = finding.Notice, "Nothing to do, unless the zone should be signed."
		}
		g.say(GateDSUnsigned, severity, short, "No nameserver of the domain serves a DNSKEY set: there is nothing that a DS could fit.", remedy)
		finding.Sort(g.found)
		return DSPlan{Found: g.found}
	}
	ds, signing := dnssec.DSOf(keys, f.Domain.String(), f.Sweep.Ended)
	for i, k := range signing {
		p.DS = append(p.DS, record.Data(ds[i]))
		p.Keys = append(p.Keys, record.Data(fmt.Sprintf("%d %d %d %s", k.Flags, k.Protocol, k.Algorithm, k.PublicKey)))
	}
	slices.Sort(p.Keys)
	if len(p.DS) == 0 {
		g.say(GateDSInvalid, finding.Error, short, "No key of the domain signs its key set with a valid signature.", "Sign the zone again.")
	}
	g.judgeKeys(servers, keys, p.DS)
	finding.Sort(g.found)
	p.Found = g.found
	return p
}

// judgeKeys asks that every server serves the same keys, and signatures of its SOA, NS and key sets that validate under a DS set.
func (g *gates) judgeKeys(servers []evidence.ServerAnswer, keys dnssec.Records, ds []record.Data) {
	zone, want := g.Domain.String(), keyTexts(keys)
	for _, a := range servers {
		switch {
		case a.Answer != evidence.Positive:
			g.say(GateDSKeysDiffer, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s did not answer: whether it serves the same keys is not known.", a.Server), "Try again when every nameserver answers.")
			continue
		case !slices.Equal(keyTexts(a.Keys), want):
			g.say(GateDSKeysDiffer, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s serves another DNSKEY set than the others.", a.Server), "Wait until all of them serve the same keys, or correct that one.")
			continue
		}
		for _, t := range []uint16{typeDNSKEY, typeSOA, typeNS} {
			records := a.Signed
			if t == typeDNSKEY {
				records = a.Keys
			}
			set, sigs := records.Set(zone, t)
			if len(set) == 0 {
				g.say(GateDSInvalid, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s serves no signed %s set.", a.Server, dns.TypeToString[t]), "Sign the zone again.")
			} else if fault := dnssec.Verify(set, sigs, keys.Keys(), zone, g.Sweep.Ended).Fault; fault != nil {
				g.say(GateDSInvalid, finding.Error, dnsname.Short(a.Name), fmt.Sprintf("%s: the signature of the %s set is not valid: %s.", a.Server, dns.TypeToString[t], fault.Detail), "Sign the zone again.")
			}
		}
	}
}
