package delegation

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// When a signature's end is near. One that is in the last part of its life should have been made again; one that was made to last is
// worth a word earlier.
const (
	endsSoon      = 72 * time.Hour
	lastPart      = 4 // a quarter
	madeToLast    = 4 * 24 * time.Hour
	endsAnyMinute = time.Hour
)

// judgeSignatures follows the chain of trust to the domain, and says what is wrong with it.
func (j *judge) judgeSignatures() {
	if len(j.s.Anchors) == 0 || len(j.s.Chain) == 0 || j.s.Brief {
		return
	}
	above := dnssec.Follow(j.s.Anchors, j.s.Chain, j.now)
	servers := knowing(j.inForce())
	link, ok := j.ownLink()
	switch {
	case above.State == dnssec.Bogus:
		j.report.DNSSEC = dnssec.Bogus
		j.find("chain-broken-above", finding.Error, above.Zone,
			fmt.Sprintf("The chain of signatures breaks above the domain, at %s: %s. Validating resolvers find nothing below.", above.Zone, faultText(above.Faults)),
			"Nothing to do at the domain; tell the operator of that zone.")
		return
	case above.State == dnssec.Indeterminate:
		j.find("chain-unknown", finding.Notice, j.short, fmt.Sprintf("Validation could not be checked: %s.", faultText(above.Faults)),
			"Check again; see that the trust anchors are those of this root.")
		return
	case above.State == dnssec.Insecure:
		j.report.DNSSEC = dnssec.Insecure
		j.keysWithoutDS(servers)
		return
	case !ok:
		return
	}
	j.judgeDS(link, servers)
	best := dnssec.Trust{State: dnssec.Indeterminate}
	trusts := make([]dnssec.Trust, len(servers))
	for i, a := range servers {
		link.Keys = a.Keys
		trusts[i] = above.Step(link, j.now)
		if i == 0 || better(trusts[i].State, best.State) {
			best = trusts[i]
		}
	}
	if len(servers) == 0 {
		best = above.Step(dnssec.Link{Zone: link.Zone, DS: link.DS, Problem: "no nameserver of the zone answers"}, j.now)
	}
	j.report.DNSSEC = best.State
	switch best.State {
	case dnssec.Insecure:
		if len(best.DS) == 0 {
			j.keysWithoutDS(servers)
		}
		return
	case dnssec.Indeterminate:
		return
	}
	for i, a := range servers {
		j.judgeTrust(trusts[i], a)
	}
	if best.State != dnssec.Secure {
		return
	}
	j.judgeKeys(best)
	j.report.DNSSEC = j.judgeSigned(servers, trusts)
	j.judgeDenials(servers, trusts, best)
	j.judgeRequests(servers, best)
}

// better orders states by how good they are.
func better(a, b dnssec.State) bool {
	order := []dnssec.State{dnssec.Secure, dnssec.Insecure, dnssec.Indeterminate, dnssec.Bogus}
	return slices.Index(order, a) < slices.Index(order, b)
}

func faultText(faults []dnssec.Fault) string {
	if len(faults) == 0 {
		return "for a reason that was not seen"
	}
	return faults[0].Detail
}

// ownLink returns what the parents say of the domain's keys; false where none of them says anything.
func (j *judge) ownLink() (dnssec.Link, bool) {
	l := dnssec.Link{Zone: j.plan.Domain.String()}
	sets := map[string]bool{}
	for _, p := range j.s.Parents {
		if p.Answer != evidence.Referral {
			continue
		}
		sets[dsText(p.DS.DS())] = true
		if len(l.DS) == 0 || len(p.DS.DS()) > len(l.DS.DS()) {
			l.DS = p.DS
		}
	}
	if len(sets) > 1 {
		j.waiting = true
		j.find("ds-differs", finding.Warning, j.short, "The parent's nameservers do not all serve the same DS records: a change is under way at the registry.",
			"Wait until all of them agree. If this lasts over an hour, ask the registrar.")
	}
	return l, len(sets) > 0
}

func dsText(list []*dns.DS) string {
	parts := make([]string, len(list))
	for i, ds := range list {
		parts[i] = fmt.Sprintf("%d %d %d %s", ds.KeyTag, ds.Algorithm, ds.DigestType, strings.ToLower(ds.Digest))
	}
	slices.Sort(parts)
	return strings.Join(parts, "; ")
}

// judgeDS looks at the DS records by themselves, and against a plan to go elsewhere.
func (j *judge) judgeDS(l dnssec.Link, servers []evidence.ServerAnswer) {
	list := l.DS.DS()
	if len(list) == 0 {
		return
	}
	seen := "the parent: " + dsText(list)
	if len(dnssec.Usable(list)) == 0 {
		j.find("ds-unsupported", finding.Warning, j.short,
			"No DS record has an algorithm and a digest that validators know: to them the domain is unsigned.",
			"Sign with ECDSAP256SHA256 (13) and publish its DS record with digest SHA-256 (2) (RFC 8624).", seen)
	}
	strong := false
	for _, ds := range list {
		strong = strong || dnssec.DigestVerifiable(ds.DigestType) && ds.DigestType != dns.SHA1
	}
	if slices.ContainsFunc(list, func(ds *dns.DS) bool { return ds.DigestType == dns.SHA1 }) {
		severity := finding.Notice
		if !strong {
			severity = finding.Warning
		}
		j.find("ds-digest-weak", severity, j.short, "A DS record has a SHA-1 digest, which must not be used for new ones any more (RFC 8624 section 3.3).",
			"Publish the DS record with digest SHA-256 (2) instead.", seen)
	}
	j.judgeGoing(list)
}

// judgeGoing looks whether a planned change of nameservers would break the chain: the new ones must sign with a key that a DS
// record names, or the DS records must be out and forgotten.
func (j *judge) judgeGoing(list []*dns.DS) {
	if len(j.plan.Wanted) == 0 || SameSet(j.plan.Wanted, j.set) {
		return
	}
	for _, a := range knowing(evidence.ServersOf(j.s, missing(j.plan.Wanted, j.set))) {
		if len(dnssec.Matching(list, a.Keys.Keys())) > 0 {
			continue
		}
		what := "do not sign the zone"
		if len(a.Keys.Keys()) > 0 {
			what = "sign the zone with other keys"
		}
		j.find("ds-would-break", finding.Warning, j.short,
			fmt.Sprintf("The parent has a DS record, and the new nameservers %s: once delegated to, the domain would be gone for everybody behind a validating resolver.", what),
			"Remove the DS record at the registrar first, and wait until it has expired; add a new one at the end.",
			"the parent: "+dsText(list), fmt.Sprintf("%s: keys %s", a.Server, keyList(a.Keys.Keys())))
		return
	}
}

func keyList(keys []*dns.DNSKEY) string {
	if len(keys) == 0 {
		return "none"
	}
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = fmt.Sprintf("%d (%s)", k.KeyTag(), dnssec.Algorithm(k.Algorithm))
	}
	return strings.Join(parts, ", ")
}

// keysWithoutDS notes a zone that is signed while nobody above says so.
func (j *judge) keysWithoutDS(servers []evidence.ServerAnswer) {
	for _, a := range servers {
		if keys := a.Keys.Keys(); len(keys) > 0 {
			j.find("key-without-ds", finding.Notice, j.short, "The zone is signed, and the parent has no DS record for it: no resolver validates it.",
				"If signing is meant, give the DS record to the registrar.", fmt.Sprintf("%s: keys %s", a.Server, keyList(keys)))
			return
		}
	}
}

// codes and remedies of what is wrong with signatures.
var signatureCodes = map[dnssec.Kind][2]string{
	dnssec.NoMatchingKey:  {"ds-without-key", "Remove the DS record at the registrar, or put the one of the zone's key there; if the zone moved to another provider, its key did not come along."},
	dnssec.KeysUnsigned:   {"keys-unsigned", "Sign the zone again with the key that the DS record names."},
	dnssec.Unsigned:       {"signature-missing", "Sign the zone again; if it is not meant to be signed, remove the DS record at the registrar."},
	dnssec.SignatureWrong: {"signature-wrong", "Sign the zone again: its data was changed, or its keys were, and its signatures were not."},
	dnssec.SignatureOver:  {"signature-expired", "Sign the zone again, and see why that did not happen by itself; look at the secondaries if only some are affected."},
	dnssec.SignatureEarly: {"signature-early", "Set the clock of whatever signs the zone."},
	dnssec.SignerUnknown:  {"signer-unknown", "Publish the key that signs, or sign with the published one."},
	dnssec.DenialMissing:  {"denial-missing", "Have the server give NSEC or NSEC3 records with negative answers: it may be too old, or hold an unsigned copy."},
	dnssec.DenialWrong:    {"denial-wrong", "Sign the zone again, so that its chain of NSEC or NSEC3 records is complete."},
}

// broken reports a fault at a server as a finding.
func (j *judge) broken(f dnssec.Fault, a evidence.ServerAnswer, severity finding.Severity) {
	code, known := signatureCodes[f.Kind]
	if !known {
		return
	}
	if dns.CanonicalName(f.Zone) != j.plan.Domain.String() {
		j.find("chain-broken-above", finding.Error, f.Zone, fmt.Sprintf("What the parent says of the domain's keys cannot be proven: %s. Validating resolvers find nothing.", f.Detail),
			"Nothing to do at the domain; tell the operator of the zone.")
		return
	}
	message := capital(f.Detail) + "."
	if severity == finding.Error {
		message += " Validating resolvers refuse this server's answers."
	}
	for i := range j.report.Findings { // one finding for all servers
		if o := &j.report.Findings[i]; o.Code == code[0] && o.Message == message {
			o.Seen = append(o.Seen, a.Server.String())
			return
		}
	}
	j.find(code[0], severity, j.short, message, code[1], a.Server.String())
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// judgeTrust returns why the keys that a server gives are not trusted, where that is so.
func (j *judge) judgeTrust(t dnssec.Trust, a evidence.ServerAnswer) {
	for _, f := range t.Faults {
		j.broken(f, a, finding.Error)
	}
}

// judgeKeys looks at proven keys, and at the signatures on the way to them.
func (j *judge) judgeKeys(t dnssec.Trust) {
	if fits := dnssec.Matching(t.DS, t.Keys); len(fits) > 0 {
		var without []string
		for _, ds := range t.DS {
			if !slices.ContainsFunc(fits, func(k *dns.DNSKEY) bool { return k.KeyTag() == ds.KeyTag && k.Algorithm == ds.Algorithm }) {
				without = append(without, fmt.Sprint(ds.KeyTag))
			}
		}
		if len(without) > 0 {
			j.find("ds-left-over", finding.Warning, j.short, fmt.Sprintf("A DS record names key %s, which the zone does not publish; another one holds the chain.", strings.Join(without, ", ")),
				"Remove it at the registrar, unless that key is about to come (a roll-over).", "the parent: "+dsText(t.DS), "the zone: keys "+keyList(t.Keys))
		}
	}
	for _, k := range t.Keys {
		if why := dnssec.Weakness(k.Algorithm); why != "" {
			j.find("algorithm-weak", finding.Warning, j.short, fmt.Sprintf("The zone is signed with %s, which %s (RFC 8624).", dnssec.Algorithm(k.Algorithm), why),
				"Roll over to ECDSAP256SHA256 (13).", "the zone: keys "+keyList(t.Keys))
			break
		}
	}
	for _, k := range t.Keys {
		if why, broken := dnssec.KeyWeakness(k); why != "" {
			severity := finding.Notice
			if broken {
				severity = finding.Warning
			}
			j.find("key-short", severity, j.short, fmt.Sprintf("Key %d %s.", k.KeyTag(), why), "Roll over to ECDSAP256SHA256 (13), or to RSA with 2,048 bits.")
		}
	}
}

// judgeSigned proves SOA, NS and the watched sets as each server gives them. The state is what a resolver comes to that asks on until
// somebody returns it what it can prove: for each set the best server counts, and of the sets the worst.
func (j *judge) judgeSigned(servers []evidence.ServerAnswer, trusts []dnssec.Trust) dnssec.State {
	type setKey struct {
		name string
		t    uint16
	}
	best := map[setKey]dnssec.State{}
	var soonest *ending
	for i, a := range servers {
		if trusts[i].State != dnssec.Secure {
			continue
		}
		keys := []setKey{{j.plan.Domain.String(), dns.TypeSOA}, {j.plan.Domain.String(), dns.TypeNS}}
		for _, o := range a.Sets {
			if o.Answer == evidence.Positive && !o.Alias {
				keys = append(keys, setKey{o.Key.Name.String(), uint16(o.Key.Type)})
			}
		}
		for _, k := range keys {
			set, sigs := a.Signed.Set(k.name, k.t)
			p := dnssec.Proof{State: dnssec.Bogus, Fault: &dnssec.Fault{Kind: dnssec.Unsigned, Zone: j.plan.Domain.String(), Detail: fmt.Sprintf("%s %s has no signature", k.name, dns.TypeToString[k.t])}}
			if len(set) > 0 {
				p = dnssec.Verify(set, sigs, trusts[i].Keys, j.plan.Domain.String(), j.now)
			}
			if p.State != dnssec.Secure {
				j.broken(*p.Fault, a, finding.Error)
			} else {
				soonest = j.nearEnd(p, soonest)
			}
			if before, ok := best[k]; !ok || better(p.State, before) {
				best[k] = p.State
			}
		}
	}
	if soonest != nil {
		j.find("signature-ends-soon", soonest.severity, j.short, fmt.Sprintf("Signatures expire at %s; after that, validating resolvers refuse the domain.", soonest.at.UTC().Format(time.DateTime)),
			"See that whatever signs the zone still does so.")
		j.dated(soonest.at)
	}
	worst := dnssec.Secure
	for _, s := range best {
		if better(worst, s) {
			worst = s
		}
	}
	return worst
}

// nearEnd keeps the end of a signature that should have been renewed by now, if it is the first one.
func (j *judge) nearEnd(p dnssec.Proof, soonest *ending) *ending {
	left := p.Ends.Sub(j.now)
	life := time.Duration(p.Sig.Expiration-p.Sig.Inception) * time.Second
	found := ending{at: *p.Ends}
	switch {
	case left < endsAnyMinute, left < endsSoon && left < life/lastPart:
		found.severity = finding.Warning
	case left < endsSoon && life > madeToLast:
		found.severity = finding.Notice
	default:
		return soonest
	}
	if soonest != nil && (soonest.severity > found.severity || soonest.severity == found.severity && soonest.at.Before(found.at)) {
		return soonest
	}
	return &found
}

// ending is the end of signatures that is near.
type ending struct {
	at       time.Time
	severity finding.Severity
}

// judgeDenials looks whether servers can prove that a name does not exist.
func (j *judge) judgeDenials(servers []evidence.ServerAnswer, trusts []dnssec.Trust, t dnssec.Trust) {
	for i, a := range servers {
		d := a.Denied
		if d == nil || d.Answer == evidence.Positive || trusts[i].State != dnssec.Secure {
			continue
		}
		got := dnssec.Absent(d.Name, d.Type, d.Authority, t.Keys, j.plan.Domain.String(), j.now)
		if got.Fault != nil {
			f := *got.Fault
			f.Detail = strings.ReplaceAll(f.Detail, d.Name, "a name that does not exist")
			j.broken(f, a, finding.Error)
		}
	}
	for _, a := range servers {
		if a.Denied == nil {
			continue
		}
		got := dnssec.Absent(a.Denied.Name, a.Denied.Type, a.Denied.Authority, t.Keys, j.plan.Domain.String(), j.now)
		switch {
		case got.Iterations > 0:
			effect := "and costs resolvers work for nothing"
			if got.Iterations > dnssec.MostIterations {
				effect = "so many that resolvers treat names that do not exist as unproven"
			}
			j.find("nsec3-iterations", finding.Warning, j.short, fmt.Sprintf("NSEC3 records have %d extra iterations, %s (RFC 9276: it must be 0).", got.Iterations, effect), "Sign with 0 iterations and no salt.", a.Server.String())
			return
		case got.Salted:
			j.find("nsec3-salt", finding.Notice, j.short, "NSEC3 records have a salt, which helps nothing (RFC 9276 section 3.1).", "Sign without salt.", a.Server.String())
			return
		}
	}
}

// compareKeys looks for servers that give other keys than the rest.
func (j *judge) compareKeys(servers []evidence.ServerAnswer) {
	sets := map[string][]string{}
	for _, a := range servers {
		if j.s.Brief {
			return
		}
		var tags []string
		for _, k := range a.Keys.Keys() {
			tags = append(tags, fmt.Sprintf("%d", k.KeyTag()))
		}
		slices.Sort(tags)
		text := strings.Join(tags, ", ")
		sets[text] = append(sets[text], a.Server.String())
	}
	if len(sets) < 2 {
		return
	}
	var seen []string
	for text, who := range sets {
		if text == "" {
			text = "none"
		}
		seen = append(seen, strings.Join(who, ", ")+": keys "+text)
	}
	slices.Sort(seen)
	j.find("keys-differ", finding.Warning, j.short, "The nameservers do not all serve the same keys (DNSKEY).", "If they have not converged in a few minutes, bring their copies of the zone to one state.", seen...)
}

// judgeRequests returns what the zone asks its parent for (RFC 7344, RFC 8078, RFC 7477), and what would follow.
func (j *judge) judgeRequests(servers []evidence.ServerAnswer, t dnssec.Trust) {
	for _, a := range servers {
		var cds []*dns.DS
		removal, keys := false, 0
		for _, rr := range a.Requests {
			switch rr := rr.(type) {
			case *dns.CDS:
				removal = removal || rr.Algorithm == 0
				cds = append(cds, &rr.DS)
			case *dns.CDNSKEY:
				removal = removal || rr.Algorithm == 0
				keys++
			case *dns.CSYNC:
				j.find("csync-requested", finding.Notice, j.short, "The zone asks the parent to copy its NS and address records (CSYNC). A parent that follows would put the zone's own list in place of the present one.",
					"Nothing to do, if the apex NS set is right.", a.Server.String()+": "+strings.ReplaceAll(rr.String(), "\t", " "))
			}
		}
		switch {
		case removal:
			j.find("ds-removal-requested", finding.Warning, j.short, "The zone asks the parent to remove the DS records (CDS 0). A parent that follows makes the domain unsigned.",
				"Nothing to do, if that is meant; else remove the CDS and CDNSKEY records now.", a.Server.String())
		case len(cds) > 0 && dsText(cds) != dsText(t.DS):
			what := "The zone asks the parent for other DS records (CDS). A parent that follows would have: " + dsText(cds) + "."
			if len(dnssec.Matching(cds, t.Keys)) == 0 {
				j.find("ds-change-would-break", finding.Warning, j.short, what+" None of them fits a key of the zone: validating resolvers would refuse the domain.", "Correct the CDS records.", a.Server.String())
				break
			}
			j.find("ds-change-requested", finding.Notice, j.short, what, "Nothing to do, if a roll-over is under way.", a.Server.String(), "the parent: "+dsText(t.DS))
		}
		if len(a.Requests) > 0 {
			return
		}
	}
}
