package delegation

import (
	"encoding/json"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
)

// recorded reads what a sweep of a domain at real servers brought.
func recorded(t *testing.T, name string) (s evidence.Sweep) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata", name+".json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &s))
	return s
}

// given is what is judged: a plan, what is remembered, and evidence.
type given struct {
	plan Plan
	h    History
	own  []finding.Finding // found by a part of the judgement alone
	s    evidence.Sweep
}

func (g *given) judged() Report {
	g.plan.Domain = g.s.Domain
	return Judge(g.plan, Advance(g.h, g.s), g.s)
}

// both does something to what each server active answered.
func (g *given) both(do func(*evidence.ServerAnswer)) {
	for i := range g.s.Servers {
		do(&g.s.Servers[i])
	}
}

func (g *given) first() *evidence.ServerAnswer { return &g.s.Servers[0] }

// lame makes the first server's answer none.
func (g *given) lame(r evidence.Reason) {
	*g.first() = evidence.ServerAnswer{Server: g.first().Server, Answer: evidence.Lame, Reason: r, Problem: string(r)}
}

// served has all parents serve a set.
// unreached has the first nameserver be silent at an IPv4 address and at another one.
func (g *given) unreached(other string) {
	name := g.first().Name
	silent := func(at string) evidence.ServerAnswer {
		return evidence.ServerAnswer{Server: evidence.Server{Name: name, Address: at}, Answer: evidence.Silent, Problem: "no answer in time"}
	}
	*g.first() = silent("192.0.2.1:53")
	g.s.Servers = append(g.s.Servers, silent(other))
	g.s.Parents[0].Address = "[2001:db8::2]:53" // this machine has IPv6
}

func (g *given) served(names ...string) {
	for i := range g.s.Parents {
		g.s.Parents[i].NS = set(names...)
	}
}

// parents has all parents answer alike, and with nothing.
func (g *given) parents(a evidence.Answer) {
	for i, p := range g.s.Parents {
		g.s.Parents[i] = evidence.ParentAnswer{Server: p.Server, Answer: a, Problem: string(a)}
	}
}

func (g *given) registered(r Registration) {
	r.Account, r.From = "gannet", "registrar"
	if r.Active == nil {
		r.Active = g.s.Parents[0].NS
	}
	g.plan.Registrar = &r
}

func (g *given) wanted(names ...string) { g.plan.Wanted = set(names...) }

func (g *given) in(d time.Duration) *time.Time {
	at := g.s.Ended.Add(d)
	return &at
}

var (
	lab1, lab2 = "ns1.hosts.example", "ns2.hosts.example"
	nothing    = func(*given) {}
)

// row is one code: evidence that it is found in, and evidence close to that in which it must not be.
type row struct {
	code     string
	severity finding.Severity
	from     string // the recorded evidence, plain where it is empty
	fire     func(*given)
	near     string // the same for what it must not be found in
	miss     func(*given)
}

var rows = []row{
	{"answer-truncated", finding.Notice, "", func(g *given) { g.first().Truncated = []string{"plain.example. NS"} }, "", func(g *given) { g.first().Truncated = []string{"plain.example. DNSKEY"} }},
	{"answers-differ", finding.Warning, "stale", nothing, "skew", nothing},
	{"apex-alias", finding.Error, "", func(g *given) {
		g.first().Sets = []evidence.Observed{{Key: record.Key{Name: g.s.Domain, Type: record.A}, Answer: evidence.Positive, Alias: true}}
	}, "", func(g *given) {
		www, _ := g.s.Domain.Child("www")
		g.first().Sets = []evidence.Observed{{Key: record.Key{Name: www, Type: record.A}, Answer: evidence.Positive, Alias: true}}
	}},
	{"check-failed", finding.Warning, "", func(g *given) { g.s.Failure = "no root server answers" }, "", nothing},
	{"child-set-differs", finding.Warning, "others", nothing, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.NS = nil }) }},
	{"everything-exists", finding.Notice, "", func(g *given) { g.first().Denied = &evidence.Denied{Answer: evidence.Positive} }, "", nothing},
	{"glue-incomplete", finding.Notice, "goodglue", func(g *given) {
		for i := range g.s.Servers {
			for k := range g.s.Servers[i].Hosts {
				h := &g.s.Servers[i].Hosts[k]
				h.Addresses = append(slices.Clone(h.Addresses), netip.MustParseAddr("2001:db8::7"))
			}
		}
	}, "goodglue", nothing},
	{"glue-missing", finding.Error, "noglue", nothing, "goodglue", nothing},
	{"glue-stale", finding.Warning, "oldglue", nothing, "goodglue", nothing},
	{"glue-unneeded", finding.Notice, "", func(g *given) { g.s.Parents[0].Foreign = []evidence.Glue{{Name: set(lab1)[0]}} }, "", nothing},
	{"nameserver-circular", finding.Error, "", func(g *given) {
		g.s.NoAddress = []evidence.NameProblem{{Name: set(lab1)[0], Kind: evidence.NameCircular, Problem: "its address can only be had from itself"}}
	}, "", func(g *given) {
		g.s.NoAddress = []evidence.NameProblem{{Name: set("ns.elsewhere.test")[0], Kind: evidence.NameCircular, Problem: "not in the delegation"}}
	}},
	{"nameserver-failing", finding.Error, "", func(g *given) { g.lame(evidence.Failed) }, "", func(g *given) { g.lame(evidence.Refused) }},
	{"nameserver-is-alias", finding.Error, "", func(g *given) {
		g.s.NoAddress = []evidence.NameProblem{{Name: set(lab1)[0], Kind: evidence.NameAlias, Problem: "it is a CNAME"}}
	}, "", nothing},
	{"nameserver-lame", finding.Error, "refused", nothing, "silent", nothing},
	{"nameserver-missing", finding.Error, "missing", nothing, "silent", nothing},
	{"nameserver-misspelt", finding.Error, "", func(g *given) { g.wanted(lab1, "ns3.hosts.example") }, "", func(g *given) { g.wanted(lab1, lab2) }},
	{"nameserver-not-authoritative", finding.Error, "", func(g *given) { g.lame(evidence.NotAuthoritative) }, "", func(g *given) { g.lame(evidence.Upward) }},
	{"nameserver-silent", finding.Error, "silent", nothing, "refused", nothing},
	{"nameserver-single", finding.Warning, "single", nothing, "", nothing},
	{"nameserver-slow", finding.Warning, "", func(g *given) { g.first().Took = 1500 * time.Millisecond }, "", func(g *given) { g.first().Took = 900 * time.Millisecond }},
	{"nameserver-split", finding.Warning, "stale", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Name = set(lab1)[0] }) }, "stale", nothing},
	{"nameserver-unresolvable", finding.Error, "", func(g *given) {
		g.s.NoAddress = []evidence.NameProblem{{Name: set(lab1)[0], Kind: evidence.NameEmpty, Problem: "it has neither A nor AAAA records"}}
	}, "", func(g *given) {
		g.s.NoAddress = []evidence.NameProblem{{Name: set(lab1)[0], Kind: evidence.NameMissing, Problem: "the name does not exist"}}
	}},
	{"nameserver-unreachable", finding.Error, "", func(g *given) { g.unreached("[2001:db8::1]:53") }, "", func(g *given) { g.unreached("192.0.2.7:53") }},
	{"nameserver-upward", finding.Error, "", func(g *given) { g.lame(evidence.Upward) }, "", func(g *given) { g.lame(evidence.NotThere) }},
	{"nameservers-many", finding.Warning, "", func(g *given) {
		var names []string
		for i := range 14 {
			names = append(names, "n"+string(rune('a'+i))+".hosts.example")
		}
		g.served(names...)
	}, "", nothing},
	{"nameservers-one-address", finding.Warning, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Address = "127.77.2.1:53" }) }, "", nothing},
	{"nameservers-one-network", finding.Warning, "", func(g *given) {
		g.s.Servers[0].Address, g.s.Servers[1].Address = "192.0.2.1:53", "192.0.2.200:53"
	}, "", func(g *given) { g.s.Servers[0].Address, g.s.Servers[1].Address = "192.0.2.1:53", "198.51.100.1:53" }},
	{"no-edns", finding.Warning, "", func(g *given) { g.first().NoEDNS = true }, "", nothing},
	{"no-ipv6", finding.Notice, "", func(g *given) { g.s.Servers[0].Address, g.s.Servers[1].Address = "192.0.2.1:53", "198.51.100.1:53" }, "",
		func(g *given) { g.s.Servers[0].Address, g.s.Servers[1].Address = "192.0.2.1:53", "[2001:db8::1]:53" }},
	{"no-ipv6-here", finding.Notice, "", func(g *given) {
		*g.first() = evidence.ServerAnswer{Server: evidence.Server{Name: g.first().Name, Address: "[2001:db8::1]:53"}, Answer: evidence.Silent, Problem: "no answer in time"}
	}, "", func(g *given) {
		*g.first() = evidence.ServerAnswer{Server: evidence.Server{Name: g.first().Name, Address: "[2001:db8::1]:53"}, Answer: evidence.Silent}
		g.s.Parents[0].Address = "[2001:db8::2]:53"
	}},
	{"no-tcp", finding.Warning, "", func(g *given) { g.first().NoTCP = "connection refused" }, "", nothing},
	{"no-udp", finding.Error, "", func(g *given) { g.first().NoUDP = true }, "", nothing},
	{"not-delegated", finding.Error, "unknown", func(g *given) {
		for i := range g.s.Parents {
			g.s.Parents[i].Answer = evidence.NoData
		}
	}, "unknown", nothing},
	{"not-registered", finding.Error, "unknown", nothing, "", nothing},
	{"ns-ttl-odd", finding.Notice, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.NSTTL = 30 }) }, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.NSTTL = 60 }) }},
	{"ns-ttl-zero", finding.Warning, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.NSTTL = 0 }) }, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.NS, a.NSTTL = nil, 0 }) }},
	{"soa-primary-missing", finding.Notice, "", func(g *given) {
		g.s.NoPrimary = &evidence.NameProblem{Name: set("ns0.hosts.example")[0], Kind: evidence.NameMissing}
	}, "", nothing},
	{"ns-ttl-unplanned", finding.Notice, "", func(g *given) { g.plan.TTL = 3600 }, "", func(g *given) { g.plan.TTL = 300 }},
	{"old-servers-stopped", finding.Warning, "", func(g *given) {
		g.moved(func(a *evidence.ServerAnswer) { a.Answer, a.Problem = evidence.Lame, "REFUSED" })
	}, "", func(g *given) { g.moved(func(*evidence.ServerAnswer) {}) }},
	{"old-zone-names-old-set", finding.Notice, "", func(g *given) { g.moved(func(*evidence.ServerAnswer) {}) }, "", nothing},
	{"open-recursion", finding.Warning, "", func(g *given) { g.first().Recursive = true }, "", nothing},
	{"open-transfer", finding.Warning, "", func(g *given) { g.first().Transfers = true }, "", nothing},
	{"not-moved-yet", finding.Notice, "", func(g *given) { g.wanted("a.elsewhere.test", "b.elsewhere.test") }, "", func(g *given) { g.wanted(lab1, lab2) }},
	{"parent-serves-other-set", finding.Error, "", func(g *given) { g.wanted("a.elsewhere.test", "b.elsewhere.test"); g.plan.Begun = true }, "", func(g *given) { g.wanted("a.elsewhere.test", "b.elsewhere.test") }},
	{"parent-set-incomplete", finding.Warning, "", func(g *given) { g.wanted(lab1, lab2, "a.elsewhere.test", "b.elsewhere.test") }, "", func(g *given) { g.wanted(lab1, lab2) }},
	{"parent-set-mixed", finding.Error, "", func(g *given) { g.wanted(lab1, "a.elsewhere.test") }, "", func(g *given) { g.wanted(lab1, lab2) }},
	{"parent-lame", finding.Warning, "", func(g *given) {
		g.s.Parents[0] = evidence.ParentAnswer{Server: g.s.Parents[0].Server, Answer: evidence.Lame, Problem: "REFUSED"}
	}, "",
		func(g *given) {
			g.s.Parents[0] = evidence.ParentAnswer{Server: g.s.Parents[0].Server, Answer: evidence.Silent, Problem: "time-out"}
		}},
	{"parent-silent", finding.Warning, "", func(g *given) { g.s.Parents[0].Answer, g.s.Parents[0].Problem = evidence.Silent, "time-out" }, "", nothing},
	{"parents-disagree", finding.Warning, "", func(g *given) { g.s.Parents[0].NS = set(lab1) }, "", nothing},
	{"vantage-point-silent", finding.Warning, "", func(g *given) { g.s.Places = []evidence.Place{{Name: "north", Problem: "time-out"}} }, "", func(g *given) { g.s.Places = []evidence.Place{{Name: "north"}} }},
	{"vantage-points-disagree", finding.Warning, "", func(g *given) {
		g.s.Places = []evidence.Place{{Name: "north", Servers: []evidence.ServerAnswer{{Server: g.first().Server, Answer: evidence.Silent, Problem: "time-out"}}}}
	}, "", func(g *given) {
		g.s.Places = []evidence.Place{{Name: "north", Servers: g.s.Servers, Parents: g.s.Parents}}
	}},
	{"registrar-differs", finding.Warning, "", func(g *given) { g.registered(Registration{Active: set("a.elsewhere.test")}) }, "", func(g *given) { g.registered(Registration{}) }},
	{"registrar-not-asked", finding.Warning, "", func(g *given) { g.registered(Registration{Problem: "time-out"}) }, "", func(g *given) { g.registered(Registration{}) }},
	{"registration-ends-soon", finding.Warning, "", func(g *given) { g.registered(Registration{Expires: g.in(29 * 24 * time.Hour)}) }, "", func(g *given) { g.registered(Registration{Expires: g.in(31 * 24 * time.Hour)}) }},
	{"registration-expired", finding.Error, "", func(g *given) { g.registered(Registration{Expires: g.in(-time.Hour)}) }, "", func(g *given) { g.registered(Registration{Expires: g.in(time.Hour)}) }},
	{"registration-in-redemption", finding.Error, "", func(g *given) { g.registered(Registration{Status: []string{"redemption period"}}) }, "", func(g *given) { g.registered(Registration{Status: []string{"auto renew period"}}) }},
	{"registration-in-transfer", finding.Warning, "", func(g *given) { g.registered(Registration{Status: []string{"pendingTransfer"}}) }, "", func(g *given) { g.registered(Registration{Status: []string{"client transfer prohibited"}}) }},
	{"registration-on-hold", finding.Error, "", func(g *given) { g.registered(Registration{Status: []string{"server hold"}}) }, "", func(g *given) { g.registered(Registration{Status: []string{"active"}}) }},
	{"registration-renewed", finding.Notice, "", func(g *given) { g.registered(Registration{Status: []string{"auto renew period"}}) }, "", func(g *given) { g.registered(Registration{Status: []string{"add period"}}) }},
	{"registry-not-updated", finding.Warning, "", func(g *given) {
		g.wanted("a.elsewhere.test")
		g.registered(Registration{Active: set("a.elsewhere.test"), Saved: set("a.elsewhere.test")})
	}, "", func(g *given) { g.wanted(lab1, lab2); g.registered(Registration{}) }},
	{"resolver-elsewhere", finding.Warning, "", func(g *given) { g.s.Resolvers[0].SOA.Primary = set("ns.elsewhere.test")[0] }, "", nothing},
	{"resolver-explains", finding.Notice, "", func(g *given) { g.s.Resolvers[0].Explained = []string{"Stale Answer (3)"} }, "", nothing},
	{"resolver-fails", finding.Warning, "nowhere", nothing, "plain", nothing},
	{"resolver-mixed", finding.Notice, "", func(g *given) {
		g.s.Resolvers[0].Again = []evidence.Observed{{Key: record.Key{Name: g.s.Domain, Type: record.A}, Answer: evidence.Positive}}
	}, "", nothing},
	{"resolver-overstays", finding.Error, "", func(g *given) { g.movedFor(2 * time.Hour) }, "", func(g *given) { g.movedFor(time.Minute) }},
	{"resolver-refuses", finding.Warning, "expired", nothing, "signed", nothing},
	{"resolver-silent", finding.Warning, "", func(g *given) { g.s.Resolvers[0].Problem = "time-out" }, "", nothing},
	{"resolver-still-old", finding.Notice, "", func(g *given) { g.movedFor(time.Minute) }, "", func(g *given) { g.movedFor(2 * time.Hour) }},
	{"saved-not-active", finding.Error, "", func(g *given) {
		g.wanted("a.elsewhere.test")
		g.registered(Registration{Saved: set("a.elsewhere.test")})
	}, "", func(g *given) { g.registered(Registration{Saved: set(lab1, lab2)}) }},
	{"serials-differ", finding.Warning, "skew", nothing, "", nothing},
	{"serials-stuck", finding.Warning, "skew", func(g *given) { g.h = Advance(g.h, g.s); g.h.SkewSince = g.s.Ended.Add(-time.Hour) }, "skew", func(g *given) { g.h = Advance(g.h, g.s) }},
	{"soa-differs", finding.Notice, "", func(g *given) { g.first().SOA.Primary = set("ns.elsewhere.test")[0] }, "", nothing},
	{"soa-expire-short", finding.Warning, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.SOA.Expire = 3600 }) }, "", nothing},
	{"soa-negative-long", finding.Notice, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.SOA.Negative = 86401 }) }, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.SOA.Negative = 86400 }) }},
	{"soa-retry-long", finding.Notice, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.SOA.Retry = a.SOA.Refresh + 1 }) }, "", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.SOA.Retry = a.SOA.Refresh }) }},
	{"switch-will-be-long", finding.Notice, "", func(g *given) { g.wanted("a.elsewhere.test"); g.s.Parents[0].TTL = 172800 }, "", func(g *given) { g.wanted("a.elsewhere.test") }},
	{"wrong-source", finding.Error, "silent", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Strange = "127.77.2.9:53" }) }, "silent", nothing},
	{"zone-above-broken", finding.Error, "", func(g *given) { g.parents(evidence.Lame) }, "", func(g *given) { g.parents(evidence.Silent) }},
	{"zone-not-at-provider", finding.Error, "nowhere", nothing, "refused", nothing},

	{"algorithm-weak", finding.Warning, "rsasha1", nothing, "rsa", nothing},
	{"chain-broken-above", finding.Error, "signed", func(g *given) { g.s.Chain[1].Keys = g.s.Chain[0].Keys }, "signed", nothing},
	{"chain-unknown", finding.Notice, "signed", func(g *given) { g.s.Chain[0].Keys, g.s.Chain[0].Problem = nil, "no answer in time" }, "signed", nothing},
	{"csync-requested", finding.Notice, "asking", nothing, "signed", nothing},
	{"denial-missing", finding.Error, "signed", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Denied.Authority = nil }) }, "plain", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Denied.Authority = nil }) }},
	{"denial-wrong", finding.Error, "signed", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Denied.Name = "zz.signed.example." }) }, "signed", nothing},
	{"ds-change-requested", finding.Notice, "signed", func(g *given) { g.both(func(a *evidence.ServerAnswer) { a.Requests = dnssec.Records{g.cds(t384)} }) }, "signed", func(g *given) {
		g.both(func(a *evidence.ServerAnswer) { a.Requests = dnssec.Records{g.cds(dns.SHA256)} })
	}},
	{"ds-change-would-break", finding.Warning, "asking", nothing, "leaving", nothing},
	{"ds-differs", finding.Warning, "signed", func(g *given) { g.s.Parents[0].DS = nil }, "signed", nothing},
	{"ds-digest-weak", finding.Warning, "sha1ds", nothing, "signed", nothing},
	{"ds-left-over", finding.Warning, "leftover", nothing, "signed", nothing},
	{"ds-removal-requested", finding.Warning, "leaving", nothing, "asking", nothing},
	{"ds-unsupported", finding.Warning, "odddigest", nothing, "leftover", nothing},
	{"ds-without-key", finding.Error, "otherkey", nothing, "leftover", nothing},
	{"ds-would-break", finding.Warning, "signed", func(g *given) { g.going(nil) }, "signed", func(g *given) { g.going(g.first().Keys) }},
	{"key-short", finding.Warning, "rsa", func(g *given) { g.shortKey() }, "rsa", nothing},
	{"key-without-ds", finding.Notice, "island", nothing, "plain", nothing},
	{"keys-differ", finding.Warning, "signed", func(g *given) { g.first().Keys = nil }, "signed", nothing},
	{"keys-unsigned", finding.Error, "keysbare", nothing, "bare", nothing},
	{"nsec3-iterations", finding.Warning, "rounds", nothing, "nsec3", nothing},
	{"nsec3-salt", finding.Notice, "salted", nothing, "nsec3", nothing},
	{"signature-early", finding.Error, "early", nothing, "expired", nothing},
	{"signature-ends-soon", finding.Warning, "ending", nothing, "signed", nothing},
	{"signature-expired", finding.Error, "oneexpired", nothing, "early", nothing},
	{"signature-missing", finding.Error, "bare", nothing, "tampered", nothing},
	{"signature-wrong", finding.Error, "tampered", nothing, "bare", nothing},
	{"signer-unknown", finding.Error, "signed", func(g *given) {
		g.both(func(a *evidence.ServerAnswer) {
			for _, sig := range a.Signed.Signatures() {
				sig.KeyTag++
			}
		})
	}, "signed", nothing},
}

const t384 = dns.SHA384

// cds is a request for the DS record that there is, with a digest of its own.
func (g *given) cds(digest uint8) dns.RR {
	key := g.first().Keys.Keys()[0]
	ds := key.ToDS(digest)
	out := &dns.CDS{DS: *ds}
	out.Hdr.Rrtype = dns.TypeCDS
	return out
}

// going has another set wanted, whose server gives keys.
func (g *given) going(keys dnssec.Records) {
	g.wanted("ns.elsewhere.test")
	there := *g.first()
	there.Name, there.Keys = g.plan.Wanted[0], keys
	g.s.Servers = append(g.s.Servers, there)
}

// shortKey adds a key of 512 bits to those of the zone; what was signed does not fit it any more, so it is judged by itself.
func (g *given) shortKey() {
	g.both(func(a *evidence.ServerAnswer) {
		k := *a.Keys.Keys()[0]
		k.PublicKey = "AwEAA" + strings.Repeat("A", 87)
		j := judge{plan: g.plan, s: g.s, now: g.s.Ended}
		j.judgeKeys(dnssec.Trust{Keys: []*dns.DNSKEY{&k}})
		g.plan.Registrar = nil
		g.own = j.report.Findings
	})
}

// moved has the domain come from other servers a minute ago, which now answer as do makes them.
func (g *given) moved(do func(*evidence.ServerAnswer)) {
	before := g.s
	before.Parents, before.Servers = slices.Clone(g.s.Parents), slices.Clone(g.s.Servers)
	for i := range before.Parents {
		before.Parents[i].NS = set("a.elsewhere.test")
	}
	old := g.s.Servers[0]
	old.Name, old.Address, old.NS = dnsname.MustParse("a.elsewhere.test"), "192.0.2.1:53", set("a.elsewhere.test")
	old.SOA.Primary = old.Name
	before.Servers = []evidence.ServerAnswer{old}
	before.Began, before.Ended = g.s.Began.Add(-time.Minute), g.s.Ended.Add(-time.Minute)
	g.h = Advance(History{}, before)
	do(&old)
	g.s.Servers = append(slices.Clone(g.s.Servers), old)
}

// movedFor has it come from there so long ago, while the resolver still goes there.
func (g *given) movedFor(d time.Duration) {
	g.moved(func(*evidence.ServerAnswer) {})
	soa := g.s.Servers[len(g.s.Servers)-1].SOA
	h := Advance(g.h, g.s)
	g.h = h
	g.s.Began, g.s.Ended = g.s.Began.Add(d), g.s.Ended.Add(d)
	g.s.Resolvers = slices.Clone(g.s.Resolvers)
	g.s.Resolvers[0].SOA, g.s.Resolvers[0].At = &soa, g.s.Ended
}

// Every code that is documented of delegations has evidence that it is found in, with its severity, and evidence close to that in
// which it is not; and every code that is found is documented.
func TestCodes(t *testing.T) {
	documented := map[string]bool{}
	for _, k := range finding.Codes {
		if k.About == finding.Delegations {
			documented[k.Code] = true
		}
	}
	had := map[string]bool{}
	find := func(t *testing.T, from string, do func(*given), code string) *finding.Finding {
		if from == "" {
			from = "plain"
		}
		g := &given{s: recorded(t, from)}
		do(g)
		list := g.judged().Findings
		if g.own != nil {
			list = g.own
		}
		for _, f := range list {
			assert.True(t, documented[f.Code], "%s is not documented", f.Code)
			assert.NotEmpty(t, f.Remedy, f.Code)
			if f.Code == code {
				return &f
			}
		}
		return nil
	}
	for _, r := range rows {
		t.Run(r.code, func(t *testing.T) {
			had[r.code] = true
			f := find(t, r.from, r.fire, r.code)
			require.NotNil(t, f, "it is not found")
			assert.Equal(t, r.severity, f.Severity)
			assert.Nil(t, find(t, r.near, r.miss, r.code), "it is found in what is only close to it")
		})
	}
	for code := range documented {
		assert.True(t, had[code], "%s has no row", code)
	}
	assert.GreaterOrEqual(t, len(rows), 60)
}

// What was recorded of healthy domains gives no warning.
func TestHealthyEvidenceIsQuiet(t *testing.T) {
	for _, name := range []string{"plain", "signed", "nsec3", "ed25519", "ed448", "p384", "rsa", "goodglue"} {
		g := &given{s: recorded(t, name)}
		for _, f := range g.judged().Findings {
			assert.Less(t, f.Severity, finding.Warning, "%s: %s", name, f)
		}
	}
}
