package delegation

import (
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/wording"
)

// judgeZone looks at what the servers active say of the zone as a whole.
func (j *judge) judgeZone() {
	servers := knowing(j.inForce())
	if len(servers) == 0 {
		return
	}
	j.judgeTimers(servers[0])
	j.judgeSOAs(servers)
	j.judgeNSTTL(servers)
	j.judgePrimary()
	for _, a := range servers {
		for _, o := range a.Sets {
			if o.Alias && o.Key.Name == j.plan.Domain {
				j.find("apex-alias", finding.Error, j.short,
					fmt.Sprintf("The apex is a CNAME at %s, beside the SOA and NS records that it must have: mail and other records of the domain stop being found (RFC 1912 section 2.4).", dnsname.Short(a.Name)),
					"Use an ALIAS at the provider, or write addresses.", fmt.Sprintf("%s: %s CNAME %s", a.Server, j.short, o.Text()))
				return
			}
		}
	}
	if d := servers[0].Denied; d != nil && d.Answer == evidence.Positive {
		j.find("everything-exists", finding.Notice, j.short, "A wildcard answers for every name below the domain, also for misspelt ones; whether the old delegation has expired from a resolver cannot be shown with names that do not exist.",
			"Nothing to do, if that is meant.")
	}
}

// judgeTimers looks at the times of the SOA record (RFC 1912 section 2.2).
func (j *judge) judgeTimers(a evidence.ServerAnswer) {
	s := a.SOA
	if s.Refresh == 0 && s.Retry == 0 && s.Expire == 0 {
		return // not looked at
	}
	seen := ""
	if s.Expire < 86400 || s.Retry > s.Refresh || s.Negative > 86400 || s.Expire <= s.Refresh+s.Retry {
		seen = fmt.Sprintf("%s: refresh %d, retry %d, expire %d, negative %d seconds", a.Server, s.Refresh, s.Retry, s.Expire, s.Negative)
	}
	switch {
	case s.Expire <= s.Refresh+s.Retry:
		j.find("soa-expire-short", finding.Warning, j.short,
			fmt.Sprintf("Secondaries give the zone up after %s, before they have asked for it twice (refresh %s, retry %s).", wording.Seconds(s.Expire), wording.Seconds(s.Refresh), wording.Seconds(s.Retry)),
			"Set expire to two weeks or more.", seen)
	case s.Expire < 86400:
		j.find("soa-expire-short", finding.Notice, j.short, fmt.Sprintf("Secondaries give the zone up %s after they last reached the primary.", wording.Seconds(s.Expire)),
			"Set expire to two weeks or more.", seen)
	}
	if s.Retry > s.Refresh {
		j.find("soa-retry-long", finding.Notice, j.short, fmt.Sprintf("Retry (%s) is longer than refresh (%s).", wording.Seconds(s.Retry), wording.Seconds(s.Refresh)),
			"Set retry to a fraction of refresh.", seen)
	}
	if s.Negative > 86400 {
		j.find("soa-negative-long", finding.Notice, j.short, fmt.Sprintf("Caches hold for %s that a name does not exist, so a new name may take as long to be seen.", wording.Seconds(s.Negative)),
			"Set the minimum field of the SOA record to an hour or less (RFC 2308 section 5).", seen)
	}
}

// judgeSOAs looks for copies of the zone that come from different makers.
func (j *judge) judgeSOAs(servers []evidence.ServerAnswer) {
	if !j.agreed {
		return
	}
	for _, a := range servers[1:] {
		if !sameZone(a.SOA, servers[0].SOA) {
			j.find("soa-differs", finding.Notice, j.short,
				fmt.Sprintf("%s and %s name different primaries in the SOA record: the zone is kept in two places.", dnsname.Short(servers[0].Name), dnsname.Short(a.Name)),
				"Nothing to do, if both are fed with the same; else bring them to one state.",
				fmt.Sprintf("%s: primary %s", servers[0].Server, dnsname.Short(servers[0].SOA.Primary)), fmt.Sprintf("%s: primary %s", a.Server, dnsname.Short(a.SOA.Primary)))
			return
		}
	}
}

// judgePrimary looks whether the primary that the SOA record names exists: notifications and dynamic updates are sent to it.
func (j *judge) judgePrimary() {
	if p := j.s.NoPrimary; p != nil {
		name := dnsname.Short(p.Name)
		j.find("soa-primary-missing", finding.Notice, j.short, fmt.Sprintf("The SOA record names %s as the primary, and that name does not exist.", name),
			"Name a nameserver of the zone in the first field of the SOA record.", name+" A: NXDOMAIN")
	}
}

// Beyond these an NS TTL is odd, in seconds.
const (
	leastNSTTL   = 60
	longestNSTTL = 7 * 86400
	longSwitch   = 2 * 86400 // a change that takes longer is worth a word beforehand
)

// judgeNSTTL looks at how long caches hold the nameservers, against what is planned.
func (j *judge) judgeNSTTL(servers []evidence.ServerAnswer) {
	ttl, parent, known := uint32(0), uint32(0), false
	for _, a := range servers {
		ttl, known = max(ttl, a.NSTTL), known || len(a.NS) > 0
	}
	for _, p := range j.s.Parents {
		parent = max(parent, p.TTL)
	}
	switch {
	case !known:
	case ttl == 0:
		j.find("ns-ttl-zero", finding.Warning, j.short, "The NS records of the zone have TTL 0: resolvers ask for the nameservers again with every question.",
			"Set it to an hour or more.")
	case ttl < leastNSTTL || ttl > longestNSTTL:
		j.find("ns-ttl-odd", finding.Notice, j.short, fmt.Sprintf("Caches hold the nameservers that the zone names for %s, which is odd.", wording.Seconds(ttl)),
			"An hour to two days is usual.")
	case j.plan.TTL > 0 && ttl != j.plan.TTL:
		j.find("ns-ttl-unplanned", finding.Notice, j.short, fmt.Sprintf("Caches hold the nameservers for %s; planned are %s.", wording.Seconds(ttl), wording.Seconds(j.plan.TTL)),
			"If a change is ahead, wait with it until the planned TTL has been active for as long as the old one lasts.")
	}
	if j.agreed && len(j.plan.Wanted) > 0 && !SameSet(j.plan.Wanted, j.set) && max(ttl, parent) >= longSwitch {
		j.find("switch-will-be-long", finding.Notice, j.short,
			fmt.Sprintf("When the nameservers are changed now, caches may hold the old ones for %s from the parent and %s from the zone.", wording.Seconds(parent), wording.Seconds(ttl)),
			"Lower the TTL of the NS records in the zone first, if that is too long; the parent's is the registry's.")
	}
}
