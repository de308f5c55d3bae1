package delegation

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/wording"
)

// judgeServers looks at every address of every nameserver that the parents name.
func (j *judge) judgeServers() {
	for _, p := range j.s.NoAddress {
		if slices.Contains(j.set, p.Name) {
			j.judgeNoAddress(p)
		}
	}
	servers := j.inForce()
	notThere, unreached := 0, j.unreached(servers)
	for _, a := range servers {
		if !slices.Contains(unreached, a.Name) {
			j.judgeServer(a)
		}
		if a.Answer == evidence.Lame && (a.Reason == evidence.Refused || a.Reason == evidence.NotThere || a.Reason == evidence.Upward) {
			notThere++
		}
	}
	if j.blind {
		j.find("no-ipv6-here", finding.Notice, "IPv6", "No nameserver could be reached over IPv6 from here, so IPv6 was not checked: this machine seems to have none.",
			"Check again from a machine with IPv6, or add one as a vantage point.")
	}
	if notThere > 0 && notThere == len(servers) {
		j.find("zone-not-at-provider", finding.Error, j.short,
			fmt.Sprintf("The domain is delegated to %s, and none of them has the zone: the name does not resolve.", joinNames(j.set)),
			"Make the zone at this provider (beacon sync), or delegate to the provider that has it (beacon delegate).")
	}
	j.judgeNumber(evidence.ServersOf(j.whole, j.set))
	if j.agreed { // while a change is on its way, two providers' servers differ as they should
		j.compareServers(knowing(servers))
	}
}

// unreached finds nameservers that have addresses of both families, none of which answers, and returns their names.
func (j *judge) unreached(servers []evidence.ServerAnswer) (names []dnsname.Name) {
	type seen struct {
		four, six, answers bool
		lines              []string
	}
	by := map[dnsname.Name]*seen{}
	for _, a := range servers {
		s := by[a.Name]
		if s == nil {
			s = &seen{}
			by[a.Name], names = s, append(names, a.Name)
		}
		at, _ := netip.ParseAddrPort(a.Address)
		s.four, s.six = s.four || at.Addr().Is4(), s.six || at.Addr().Is6()
		s.answers = s.answers || a.Answer != evidence.Silent || a.Strange != ""
		s.lines = append(s.lines, fmt.Sprintf("%s, asked for %s SOA: %s", a.Server, j.short, a.Problem))
	}
	names = slices.DeleteFunc(names, func(n dnsname.Name) bool { s := by[n]; return s.answers || !s.four || !s.six })
	for _, n := range names {
		j.find("nameserver-unreachable", finding.Error, dnsname.Short(n), fmt.Sprintf("%s answers neither over IPv4 nor over IPv6.", dnsname.Short(n)),
			"See whether the server is up and reachable; if it is retired, remove it from the delegation.", by[n].lines...)
	}
	return names
}

func (j *judge) judgeNoAddress(p evidence.NameProblem) {
	name := dnsname.Short(p.Name)
	switch p.Kind {
	case evidence.NameMissing:
		j.find("nameserver-missing", finding.Error, name, fmt.Sprintf("The delegation names %s, which does not exist.", name),
			"Correct the name at the registrar, or remove it there.", name+" A: NXDOMAIN")
	case evidence.NameAlias:
		j.find("nameserver-is-alias", finding.Error, name, fmt.Sprintf("The delegation names %s, and %s. Resolvers do not follow that.", name, p.Problem),
			"Give the nameserver A and AAAA records of its own, or put the name behind the alias into the delegation.")
	case evidence.NameCircular:
		if !p.Name.IsAtOrBelow(j.plan.Domain) {
			j.find("nameserver-circular", finding.Error, name, fmt.Sprintf("%s does not resolve: %s.", name, p.Problem),
				"Have glue put into the delegation of the zone that it lies in, or use nameservers elsewhere.")
		} // within the domain it is missing glue, which judgeGlue says
	default:
		j.find("nameserver-unresolvable", finding.Error, name,
			fmt.Sprintf("The delegation names %s, which has no address: %s.", name, p.Problem),
			"Correct the name at the registrar, or remove it there.")
	}
}

func (j *judge) judgeServer(a evidence.ServerAnswer) {
	if a.Answer == evidence.Positive {
		j.judgeHabits(a)
		if j.agreed && !SameSet(a.NS, j.set) && len(a.NS) > 0 {
			j.childSetDiffers(a, dnsname.Short(a.Name))
		}
		return
	}
	subject, seen := dnsname.Short(a.Name), fmt.Sprintf("%s, asked for %s SOA: %s", a.Server, j.short, a.Problem)
	switch a.Answer {
	case evidence.Silent:
		if a.Strange != "" {
			j.find("wrong-source", finding.Error, subject,
				fmt.Sprintf("Questions to %s at %s are answered from %s. Resolvers drop such answers.", subject, a.Address, a.Strange),
				"Have the server answer from the address that was asked (a machine with several addresses must be configured).", seen)
			return
		}
		j.find("nameserver-silent", finding.Error, subject,
			fmt.Sprintf("%s at %s does not answer (%s).", subject, a.Address, a.Problem),
			"See whether the server is up and reachable; if it is retired, remove it from the delegation.", seen)
	case evidence.Lame:
		j.judgeLame(a, subject, seen)
	}
}

func (j *judge) judgeLame(a evidence.ServerAnswer, subject, seen string) {
	switch a.Reason {
	case evidence.Failed:
		j.find("nameserver-failing", finding.Error, subject,
			fmt.Sprintf("%s at %s answers SERVFAIL: it should have the zone, and cannot give it.", subject, a.Address),
			"Look at this server: an expired secondary, a zone file with an error, or a transfer that fails.", seen)
	case evidence.NotAuthoritative:
		j.find("nameserver-not-authoritative", finding.Error, subject,
			fmt.Sprintf("%s at %s answers, but not as an authority for the zone: it may be a resolver, or an expired secondary.", subject, a.Address),
			"Make the zone at this server, or remove it from the delegation.", seen)
	case evidence.Upward:
		j.find("nameserver-upward", finding.Error, subject,
			fmt.Sprintf("%s at %s does not know the zone: %s.", subject, a.Address, a.Problem),
			"Make the zone at this server, or remove it from the delegation.", seen)
	default:
		j.find("nameserver-lame", finding.Error, subject,
			fmt.Sprintf("%s at %s answers, but not for this zone: %s.", subject, a.Address, a.Problem),
			"Make the zone at this provider, or remove the nameserver from the delegation.", seen)
	}
}

// slow is the time for one answer beyond which people notice.
const slow = time.Second

// judgeHabits looks at how a server answers that knows the zone.
func (j *judge) judgeHabits(a evidence.ServerAnswer) {
	if a.NoTCP == "" && !a.NoUDP && !a.NoEDNS && a.Took <= slow && len(a.Truncated) == 0 && !a.Recursive && !a.Transfers {
		return
	}
	subject := dnsname.Short(a.Name)
	at := subject + " at " + a.Address
	if a.NoTCP != "" {
		j.find("no-tcp", finding.Warning, subject,
			fmt.Sprintf("%s does not answer over TCP: %s. Large answers will fail.", at, a.NoTCP),
			"Open TCP to port 53 of this server (RFC 7766).")
	}
	if a.NoUDP {
		j.find("no-udp", finding.Error, subject, at+" answers over TCP and not over UDP: most resolvers will treat it as dead.",
			"Open UDP to port 53 of this server.")
	}
	if a.NoEDNS {
		j.find("no-edns", finding.Warning, subject, at+" does not understand EDNS (RFC 6891): large and signed answers need it, and resolvers lose time.",
			"Bring the server's software up to date, or have what filters in front of it let EDNS through.")
	}
	if a.Took > slow {
		j.find("nameserver-slow", finding.Warning, subject, fmt.Sprintf("%s took %.1f s for an answer.", at, a.Took.Seconds()),
			"See whether it is overloaded or far away.")
	}
	if plain := slices.DeleteFunc(slices.Clone(a.Truncated), func(q string) bool { return strings.HasSuffix(q, " DNSKEY") }); len(plain) > 0 {
		j.find("answer-truncated", finding.Notice, subject,
			fmt.Sprintf("%s cannot give %s within %d octets over UDP, so resolvers have to ask again over TCP.", at, strings.Join(plain, ", "), udpFits),
			"Keep these sets small, if speed matters.")
	}
	if a.Recursive {
		j.find("open-recursion", finding.Warning, subject, at+" looks up foreign names for anyone, which is used to flood third parties.",
			"Switch recursion off on this nameserver.")
	}
	if a.Transfers {
		j.find("open-transfer", finding.Warning, subject, at+" gives the whole zone to anyone who asks (AXFR).",
			"Allow transfers to your secondaries only.")
	}
}

// udpFits is how large an answer over UDP may be, in octets.
const udpFits = 1232

func (j *judge) childSetDiffers(a evidence.ServerAnswer, subject string) {
	how := "differs from the parent's"
	switch {
	case len(missing(a.NS, j.set)) == len(a.NS):
		how = "has nothing in common with the parent's"
	case len(missing(j.set, a.NS)) == 0:
		how = "names more than the parent does"
	case len(missing(a.NS, j.set)) == 0:
		how = "names fewer than the parent does"
	}
	j.find("child-set-differs", finding.Warning, subject,
		fmt.Sprintf("The set of nameservers in the zone at %s %s: %s; the parent names %s. Some resolvers follow the zone.",
			subject, how, joinNames(a.NS), joinNames(j.set)),
		"Make the NS records at the apex and the list at the registrar the same.",
		fmt.Sprintf("%s: %s NS %s", a.Server, j.short, joinNames(a.NS)))
}

// judgeNumber looks at how many nameservers there are, and whether they can fail together.
func (j *judge) judgeNumber(servers []evidence.ServerAnswer) {
	switch {
	case len(j.set) == 1:
		j.find("nameserver-single", finding.Warning, j.short, fmt.Sprintf("%s is the only nameserver: when it fails, the domain is gone.", joinNames(j.set)),
			"Give at least two (RFC 1034 section 4.1).")
		return
	case len(j.set) > mostServers:
		j.find("nameservers-many", finding.Warning, j.short,
			fmt.Sprintf("The delegation names %d nameservers, more than fit into an answer over UDP; only some of them were looked at.", len(j.set)),
			"Name a handful.")
	}
	var addrs []netip.Addr
	v6 := false
	for _, a := range servers {
		addr := evidence.AddressOf(a.Server)
		if v6 = v6 || addr.Is6(); !slices.Contains(addrs, addr) {
			addrs = append(addrs, addr)
		}
	}
	if len(addrs) == 0 {
		return
	}
	switch {
	case len(addrs) == 1:
		j.find("nameservers-one-address", finding.Warning, j.short, fmt.Sprintf("All nameservers are at one address, %s: they are one.", addrs[0]),
			"Have a second one, elsewhere.")
	case oneNetwork(addrs):
		j.find("nameservers-one-network", finding.Warning, j.short, "All nameservers are on one network, which can fail as a whole (RFC 2182 section 3.1).",
			"Have one of them on another network.")
	}
	if !v6 && !allInner(addrs) {
		j.find("no-ipv6", finding.Notice, j.short, "No nameserver has an IPv6 address: resolvers that have nothing else cannot reach the domain.",
			"Give the nameservers AAAA records.")
	}
}

// mostServers is how many names fit into the usual answer; the root has 13 itself.
const mostServers = 13

func inner(a netip.Addr) bool { return a.IsLoopback() || a.IsPrivate() }

func allInner(addrs []netip.Addr) bool {
	return !slices.ContainsFunc(addrs, func(a netip.Addr) bool { return !inner(a) })
}

// oneNetwork reports whether all addresses are within one /24, or one /48 of IPv6. Inner addresses say nothing of that.
func oneNetwork(addrs []netip.Addr) bool {
	first := netip.Prefix{}
	for _, a := range addrs {
		if inner(a) {
			return false
		}
		bits := 24
		if a.Is6() {
			bits = 48
		}
		p, err := a.Prefix(bits)
		if err != nil || first.IsValid() && p != first {
			return false
		}
		first = p
	}
	return true
}

// compareServers holds the servers active against each other.
func (j *judge) compareServers(servers []evidence.ServerAnswer) {
	j.compareSerials(servers)
	answers := map[string]map[string][]string{}
	for _, a := range servers {
		for _, o := range a.Sets {
			key := o.Key.String()
			if answers[key] == nil {
				answers[key] = map[string][]string{}
			}
			text := o.Text()
			answers[key][text] = append(answers[key][text], a.Server.String())
		}
	}
	for key, different := range answers {
		key = strings.Replace(key, ". ", " ", 1)
		if len(different) < 2 {
			continue
		}
		var seen []string
		for text, who := range different {
			seen = append(seen, fmt.Sprintf("%s: %s", strings.Join(who, ", "), text))
		}
		slices.Sort(seen)
		if name, ok := splitName(different); ok {
			j.find("nameserver-split", finding.Warning, name, fmt.Sprintf("The addresses of %s return different answers for %s: one name has different servers.", name, key),
				"Bring the servers behind this name to the same state.", seen...)
			continue
		}
		j.find("answers-differ", finding.Warning, key, "The nameservers return different answers for this record set.",
			"If they have not converged in a few minutes, look at the provider's state of the zone.", seen...)
	}
	j.compareKeys(servers)
}

// splitName finds a nameserver whose own addresses answer differently.
func splitName(answers map[string][]string) (string, bool) {
	first := map[string]string{}
	for text, who := range answers {
		for _, server := range who {
			name, _, _ := strings.Cut(server, " ")
			if before, ok := first[name]; ok && before != text {
				return name, true
			}
			first[name] = text
		}
	}
	return "", false
}

// compareSerials returns how far the copies of the zone are apart, and whether they come together (RFC 1982).
func (j *judge) compareSerials(servers []evidence.ServerAnswer) {
	if len(servers) == 0 || !slices.ContainsFunc(servers, func(a evidence.ServerAnswer) bool { return a.SOA.Serial != servers[0].SOA.Serial }) {
		return
	}
	newest := servers[0].SOA.Serial
	for _, a := range servers {
		if int32(a.SOA.Serial-newest) > 0 {
			newest = a.SOA.Serial
		}
	}
	var seen, behind []string
	var gap uint32
	moved := false
	for _, a := range servers {
		seen = append(seen, fmt.Sprintf("%s: serial %d", a.Server, a.SOA.Serial))
		if a.SOA.Serial != newest {
			behind = append(behind, dnsname.Short(a.Name))
			gap = max(gap, newest-a.SOA.Serial)
			if before, known := j.h.serialBefore(a.Server); known && before != a.SOA.Serial {
				moved = true
			}
		}
	}
	if len(behind) == 0 {
		return
	}
	slices.Sort(behind)
	for _, a := range servers { // of different providers, serials have nothing to do with each other
		if a.SOA.Primary != servers[0].SOA.Primary {
			return
		}
	}
	state := "Whether they come together, the next check will show."
	switch {
	case moved:
		state = "Since the last check they have come closer: they are being updated."
	case !j.h.SkewSince.IsZero() && j.now.Sub(j.h.SkewSince) > stuckAfter:
		j.find("serials-stuck", finding.Warning, j.short,
			fmt.Sprintf("%s does not serve the zone's changes for %s: it is behind by %s.", strings.Join(slices.Compact(behind), ", "), roundSpan(j.now.Sub(j.h.SkewSince)), upTo(gap, len(behind))),
			"Look at notifications and transfers between the primary and these servers.", seen...)
		return
	}
	j.find("serials-differ", finding.Warning, j.short,
		fmt.Sprintf("%s is behind the newest serial, %d, by %s. %s", strings.Join(slices.Compact(behind), ", "), newest, upTo(gap, len(behind)), state),
		"If they have not converged in a few minutes, look at the provider's state of the zone.", seen...)
}

func upTo(gap uint32, servers int) string {
	if servers > 1 {
		return fmt.Sprintf("up to %d", gap)
	}
	return fmt.Sprint(gap)
}

// stuckAfter is how long copies may differ before it is said that they do not come together.
const stuckAfter = 30 * time.Minute

func roundSpan(d time.Duration) string {
	return wording.Seconds(uint32(d.Round(time.Minute).Seconds()))
}

// judgeOldServers looks at the set before, which caches still use while the change settles.
func (j *judge) judgeOldServers() {
	f := j.h.Former
	if f == nil || j.report.SettlesBy == nil || !j.now.Before(*j.report.SettlesBy) {
		return
	}
	gone := 0
	var seen []string
	servers := evidence.ServersOf(j.s, missing(f.Set, j.set))
	for _, a := range servers {
		if a.Answer != evidence.Positive {
			gone++
			seen = append(seen, fmt.Sprintf("%s: %s", a.Server, a.Problem))
		}
	}
	until := clockText(*j.report.SettlesBy)
	switch {
	case gone > 0:
		j.find("old-servers-stopped", finding.Warning, j.short,
			fmt.Sprintf("%d of %d old nameserver addresses no longer answer for the zone, and caches may ask them until %s: "+
				"for those users the domain is down.", gone, len(servers), until),
			"Put the zone back at the old provider until then.", seen...)
	case len(servers) > 0 && f.Told.IsZero():
		j.find("old-zone-names-old-set", finding.Notice, j.short,
			"The old nameservers still name themselves in the zone. A resolver that keeps refreshing that set from them "+
				"is bound by no time; most are not of that kind.",
			"Put the new NS records into the old zone, or remove the old zone after "+until+" (RFC 6781 section 4.3.5).")
	}
}

// joinNames lists names for reading.
func joinNames(names []dnsname.Name) string {
	const most = 13
	texts := make([]string, min(len(names), most))
	for i := range texts {
		texts[i] = dnsname.Short(names[i])
	}
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(texts, ", "), len(names)-most)
	}
	return strings.Join(texts, ", ")
}
