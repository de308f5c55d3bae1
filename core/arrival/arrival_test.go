package arrival

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

var (
	apex   = dnsname.MustParse("saltmarsh-ferries.example")
	www    = dnsname.MustParse("www.saltmarsh-ferries.example")
	four   = netip.MustParseAddr("192.0.2.41")
	other4 = netip.MustParseAddr("192.0.2.42")
	six    = netip.MustParseAddr("2001:db8:41::1")
	old    = netip.MustParseAddr("192.0.2.40")
	now    = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	notary = Issuer{Identity: "ca.example", Organization: "Lantern Notary"}
)

func certificate(names ...string) *Certificate {
	return &Certificate{Names: names, Issuer: "Lantern Notary Root", Organization: "Lantern Notary", From: now.AddDate(0, 0, -10), Until: now.AddDate(0, 0, 80), Print: names[0]}
}

// healthy is a domain whose two sites stand well, www leading to the apex.
func healthy() Evidence {
	e := Evidence{Domain: apex, At: now, Issuers: []Issuer{notary}, Writes: &Writes{At: []dnsname.Name{dnsname.MustParse("quay-11.heron.test")}}}
	for _, name := range []dnsname.Name{apex, www} {
		s := Site{Name: name, Wanted: []netip.Addr{four, six}}
		for _, who := range []string{"quay-11", "quay-13"} {
			s.Servers = append(s.Servers, Lead{Who: who, Addresses: []netip.Addr{four, six}})
			s.CAA = append(s.CAA, CAASet{Who: who, Name: apex, Data: []record.Data{`0 issue "ca.example"`}})
		}
		s.Resolvers = []Lead{{Who: "harbour", Addresses: []netip.Addr{four, six}}, {Who: "dinghy", Addresses: []netip.Addr{four, six}}}
		for _, a := range []netip.Addr{four, six} {
			s.Contacts = append(s.Contacts, Contact{Name: name, Address: a, Status: 301, Leads: "https://" + short(name) + "/"},
				Contact{Name: name, Address: a, Secure: true, Status: 200, Certificate: certificate(short(apex), "*."+short(apex))})
		}
		if name == www {
			s.Contacts[1].Status, s.Contacts[1].Leads = 301, "https://"+short(apex)+"/"
			s.Contacts[3].Status, s.Contacts[3].Leads = 301, "https://"+short(apex)+"/"
		}
		e.Sites = append(e.Sites, s)
	}
	return e
}

func (e *Evidence) at(i int, a netip.Addr, secure bool) *Contact {
	return e.Sites[i].contact(a, secure)
}

func (c *Contact) fail(why Failure) {
	c.Failure, c.Problem, c.Certificate, c.Status = why, string(why), nil, 0
}

// off has nothing answer at an address of a site.
func (e *Evidence) off(i int, a netip.Addr, why Failure) {
	e.at(i, a, false).fail(why)
	e.at(i, a, true).fail(why)
}

// all does something to every contact of one scheme.
func (e *Evidence) all(secure bool, do func(*Contact)) {
	for i := range e.Sites {
		for k := range e.Sites[i].Contacts {
			if c := &e.Sites[i].Contacts[k]; c.Secure == secure {
				do(c)
			}
		}
	}
}

func (e *Evidence) caa(data ...record.Data) {
	for i := range e.Sites {
		for k := range e.Sites[i].CAA {
			e.Sites[i].CAA[k].Data = data
		}
	}
}

// lead has all nameservers and resolvers lead to other addresses for a site.
func (e *Evidence) lead(i int, list ...netip.Addr) {
	s := &e.Sites[i]
	s.Wanted = list
	for k := range s.Servers {
		s.Servers[k].Addresses = list
	}
	for k := range s.Resolvers {
		s.Resolvers[k].Addresses = list
	}
}

// contact adds a host's answers at an address.
func (e *Evidence) host(i int, a netip.Addr, why Failure) {
	for _, secure := range []bool{false, true} {
		e.Sites[i].Contacts = append(e.Sites[i].Contacts, Contact{Name: e.Sites[i].Name, Address: a, Secure: secure, Status: 200, Failure: why})
	}
}

// codes has for each code evidence in which it is found, and evidence close to that in which it must not be.
var codes = map[string]struct{ fires, quiet func(*Evidence) }{
	"site-none": {func(e *Evidence) { e.lead(0); e.lead(1) }, func(e *Evidence) { e.lead(1) }},
	"site-no-address": {func(e *Evidence) { e.lead(1) }, func(e *Evidence) {
		e.lead(1)
		e.Sites[1].Servers[0].Problem, e.Sites[1].Servers[1].Problem = "silent", "silent"
	}},
	"site-elsewhere":     {func(e *Evidence) { e.Sites[0].Wanted = []netip.Addr{old} }, func(e *Evidence) { e.Sites[0].Wanted = nil }},
	"site-behind":        {func(e *Evidence) { e.Sites[0].Resolvers[0].Addresses = []netip.Addr{old} }, func(e *Evidence) { e.Sites[0].Resolvers[0].Problem = "silent" }},
	"old-host-stopped":   {func(e *Evidence) { e.Sites[0].Resolvers[0].Addresses = []netip.Addr{old}; e.host(0, old, Closed) }, func(e *Evidence) { e.Sites[0].Resolvers[0].Addresses = []netip.Addr{old}; e.host(0, old, "") }},
	"site-unreachable":   {func(e *Evidence) { e.off(0, four, Closed); e.off(0, six, Mute) }, func(e *Evidence) { e.off(0, four, Barred); e.off(0, six, NoRoute) }},
	"site-address-fails": {func(e *Evidence) { e.lead(0, four, other4); e.host(0, other4, Mute) }, func(e *Evidence) { e.lead(0, four, other4); e.host(0, other4, "") }},
	"site-v6-fails":      {func(e *Evidence) { e.off(0, six, Mute) }, func(e *Evidence) { e.off(0, six, NoRoute) }},
	"site-v6-other":      {func(e *Evidence) { e.at(0, six, true).Certificate = certificate("bittern.hosts.test") }, func(e *Evidence) { e.at(0, six, true).Took = 900 }},
	"site-no-v6":         {func(e *Evidence) { e.lead(0, four) }, func(e *Evidence) { e.lead(0, six) }},
	"site-not-looked":    {func(e *Evidence) { e.off(0, four, Barred); e.off(0, six, Barred) }, func(e *Evidence) { e.off(0, six, Barred) }},
	"site-not-http":      {func(e *Evidence) { e.at(0, four, false).fail(NoHTTP) }, func(e *Evidence) { e.at(0, four, false).fail(Closed) }},
	"site-error":         {func(e *Evidence) { e.at(0, four, true).Status = 502 }, func(e *Evidence) { e.at(0, four, true).Status = 404 }},
	"site-status":        {func(e *Evidence) { e.at(0, four, true).Status = 404 }, func(e *Evidence) { e.at(0, four, true).Status = 204 }},
	"http-closed":        {func(e *Evidence) { e.at(0, four, false).fail(Closed) }, func(e *Evidence) { e.off(0, four, Closed) }},
	"http-stays":         {func(e *Evidence) { e.at(0, four, false).Leads, e.at(0, four, false).Status = "", 200 }, func(e *Evidence) { e.at(0, four, false).Leads, e.at(0, four, false).Status = "", 404 }},
	"https-closed":       {func(e *Evidence) { e.at(0, four, true).fail(Closed) }, func(e *Evidence) { e.at(0, four, true).fail(NoTLS) }},
	"tls-fails":          {func(e *Evidence) { e.at(0, four, true).fail(NoTLS) }, func(e *Evidence) { e.at(0, four, true).fail(Mute) }},
	"redirect-loop": {func(e *Evidence) { e.all(true, func(c *Contact) { c.Leads = "http://" + short(c.Name) + "/" }) },
		func(e *Evidence) {
			e.all(true, func(c *Contact) { c.Leads = "https://" + short(c.Name) + "/timetable" })
		}},
	"redirect-insecure": {func(e *Evidence) { e.at(0, four, true).Leads = "http://elsewhere.example/" }, func(e *Evidence) { e.at(0, four, true).Leads = "https://elsewhere.example/" }},
	"www-differs":       {func(e *Evidence) { e.at(1, four, true).Leads, e.at(1, six, true).Leads = "", "" }, func(e *Evidence) { e.all(true, func(c *Contact) { c.Leads = "https://elsewhere.example/" }) }},
	"certificate-name": {func(e *Evidence) {
		e.at(1, four, true).Certificate.Names = []string{"saltmarsh-ferries.example", "*.www.saltmarsh-ferries.example"}
	}, func(e *Evidence) { e.at(1, four, true).Certificate.Names = []string{"*.saltmarsh-ferries.example"} }},
	"certificate-expired":   {func(e *Evidence) { e.at(0, four, true).Certificate.Until = now.Add(-time.Second) }, func(e *Evidence) { e.at(0, four, true).Certificate.Until = now.Add(time.Second) }},
	"certificate-early":     {func(e *Evidence) { e.at(0, four, true).Certificate.From = now.Add(time.Second) }, func(e *Evidence) { e.at(0, four, true).Certificate.From = now }},
	"certificate-untrusted": {func(e *Evidence) { e.at(0, four, true).Certificate.Distrust = "signed by unknown authority" }, func(e *Evidence) { e.at(0, four, true).Certificate.Issuer = "Somebody" }},
	"certificate-ends-soon": {func(e *Evidence) { e.at(0, four, true).Certificate.Until = now.AddDate(0, 0, 1) }, func(e *Evidence) {
		e.at(0, four, true).Certificate.From, e.at(0, four, true).Certificate.Until = now.Add(-time.Hour), now.AddDate(0, 0, 1)
	}},
	"caa-forbids":    {func(e *Evidence) { e.caa(`0 issue ";"`) }, func(e *Evidence) { e.caa(`0 issuewild ";"`, `0 iodef "mailto:hostmaster@saltmarsh-ferries.example"`) }},
	"caa-critical":   {func(e *Evidence) { e.caa(`128 isue "ca.example"`) }, func(e *Evidence) { e.caa(`0 isue "ca.example"`) }},
	"caa-differs":    {func(e *Evidence) { e.Sites[0].CAA[0].Data = nil }, func(e *Evidence) { e.caa() }},
	"caa-unanswered": {func(e *Evidence) { e.Sites[0].CAA[0].Data, e.Sites[0].CAA[0].Problem = nil, "SERVFAIL" }, func(e *Evidence) { e.Sites[0].CAA = nil }},
	"caa-issuer": {func(e *Evidence) {
		e.Issuers = append(e.Issuers, Issuer{Identity: "other.example", Organization: "Buoy Registry"})
		e.at(0, four, true).Certificate.Organization = "Buoy Registry"
	}, func(e *Evidence) { e.at(0, four, true).Certificate.Organization = "Buoy Registry" }},
}

func found(r Report, code string) bool {
	return slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.Code == code })
}

func TestCodes(t *testing.T) {
	for _, k := range finding.Codes {
		if k.About == finding.Arrivals {
			assert.Contains(t, codes, k.Code, "a code without a row")
		}
	}
	quiet := Judge(healthy())
	assert.Empty(t, quiet.Findings)
	for code, row := range codes {
		t.Run(code, func(t *testing.T) {
			e := healthy()
			row.fires(&e)
			assert.True(t, found(Judge(e), code), "not found: %v", Judge(e).Findings)
			e = healthy()
			row.quiet(&e)
			assert.False(t, found(Judge(e), code), "found: %v", Judge(e).Findings)
		})
	}
}

func TestHealthy(t *testing.T) {
	r := Judge(healthy())
	require.Len(t, r.Sites, 2)
	for _, s := range r.Sites {
		assert.Equal(t, Settled, s.State)
		assert.Equal(t, "https://saltmarsh-ferries.example/", s.Ends)
		assert.True(t, s.OverHTTP.Ready, "%v", s.OverHTTP)
		assert.True(t, s.OverDNS.Ready, "%v", s.OverDNS)
	}
}

// Everything that an authority needs is needed: taking any of it away takes readiness away, and says why.
func TestReadiness(t *testing.T) {
	for name, c := range map[string]struct {
		do        func(*Evidence)
		http, dns bool
	}{
		"nothing":                       {func(*Evidence) {}, true, true},
		"a parent leads elsewhere":      {func(e *Evidence) { e.Above = []string{"west.nic.example leads to other nameservers"} }, false, true},
		"a nameserver leads elsewhere":  {func(e *Evidence) { e.Sites[0].Servers[1].Addresses = []netip.Addr{old, six} }, false, true},
		"a nameserver does not say":     {func(e *Evidence) { e.Sites[0].Servers[1].Problem = "silent" }, false, true},
		"AAAA leads elsewhere":          {func(e *Evidence) { e.Sites[0].Wanted = []netip.Addr{four, netip.MustParseAddr("2001:db8:40::1")} }, false, true},
		"IPv4 is closed":                {func(e *Evidence) { e.at(0, four, false).fail(Closed) }, false, true},
		"IPv6 is closed":                {func(e *Evidence) { e.at(0, six, false).fail(Mute) }, false, true},
		"IPv6 was not looked at":        {func(e *Evidence) { e.at(0, six, false).fail(NoRoute) }, false, true},
		"https is broken":               {func(e *Evidence) { e.at(0, four, true).fail(NoTLS) }, true, true},
		"no address":                    {func(e *Evidence) { e.lead(0) }, false, true},
		"CAA forbids":                   {func(e *Evidence) { e.caa(`0 issue "other.example"`) }, false, false},
		"CAA is not answered":           {func(e *Evidence) { e.Sites[0].CAA[0].Data, e.Sites[0].CAA[0].Problem = nil, "SERVFAIL" }, false, false},
		"CAA nearer by permits":         {func(e *Evidence) { e.caa(`0 issue ";"`); e.nearer() }, true, true},
		"a nameserver is not ours":      {func(e *Evidence) { e.Writes.Not = []dnsname.Name{dnsname.MustParse("reed-11.plover.test")} }, true, false},
		"a nameserver is silent":        {func(e *Evidence) { e.Writes.Silent = e.Writes.At }, true, false},
		"whose it is is not known":      {func(e *Evidence) { e.Writes = nil }, true, false},
		"a resolver holds the old":      {func(e *Evidence) { e.Sites[0].Resolvers[0].Addresses = []netip.Addr{old} }, true, true},
		"no issuer is known":            {func(e *Evidence) { e.Issuers = nil }, true, true},
		"no issuer is known, none may":  {func(e *Evidence) { e.Issuers = nil; e.caa(`0 issue ";"`) }, false, false},
		"where it shall lead not known": {func(e *Evidence) { e.Sites[0].Wanted = nil }, true, true},
	} {
		t.Run(name, func(t *testing.T) {
			e := healthy()
			c.do(&e)
			s := Judge(e).Sites[0]
			assert.Equal(t, c.http, s.OverHTTP.Ready, "%+v", s.OverHTTP)
			assert.Equal(t, c.dns, s.OverDNS.Ready, "%+v", s.OverDNS)
			for _, r := range []Readiness{s.OverHTTP, s.OverDNS} {
				assert.Equal(t, r.Ready, len(r.Lacks) == 0 && r.Unknown == "", "either it is ready, or it is said why not")
			}
		})
	}
	e := healthy()
	e.Sites[0].Resolvers[0].Addresses = []netip.Addr{old}
	assert.NotEmpty(t, Judge(e).Sites[0].OverHTTP.Mind, "who asks a resolver that is behind goes to the old host")
}

// nearer returns the apex's names CAA records of their own that permit everything.
func (e *Evidence) nearer() {
	for i := range e.Sites[0].CAA {
		e.Sites[0].CAA[i].Data = []record.Data{`0 issue "ca.example; account=7"`}
	}
}

func TestStates(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(*Evidence)
		want State
	}{
		"arrived": {func(*Evidence) {}, Settled},
		"parents": {func(e *Evidence) { e.Above = []string{"x"} }, Settling},
		"behind":  {func(e *Evidence) { e.Sites[0].Resolvers[0].Addresses = []netip.Addr{old} }, Settling},
		"one in parts": {func(e *Evidence) {
			e.lead(0, four, other4, six)
			e.host(0, other4, "")
			e.Sites[0].Resolvers[0].Addresses = []netip.Addr{four, six}
		}, Settled},
		"v6 forgotten": {func(e *Evidence) { e.Sites[0].Resolvers[0].Addresses = []netip.Addr{four} }, Settling},
		"trouble":      {func(e *Evidence) { e.at(0, four, true).Certificate.Until = now.Add(-time.Hour) }, NeedsAction},
		"no site":      {func(e *Evidence) { e.lead(0) }, NoAddress},
		"nobody says": {func(e *Evidence) {
			e.Sites[0].Servers[0].Problem, e.Sites[0].Servers[1].Problem = "x", "x"
			e.Sites[0].Wanted = nil
		}, NotChecked},
		"out of reach":  {func(e *Evidence) { e.off(0, four, Barred); e.off(0, six, Barred) }, NotChecked},
		"warnings only": {func(e *Evidence) { e.off(0, six, Mute) }, Settled},
	} {
		t.Run(name, func(t *testing.T) {
			e := healthy()
			c.do(&e)
			assert.Equal(t, c.want, Judge(e).Sites[0].State, "%v", Judge(e).Findings)
		})
	}
}

// Whatever the evidence: the order in which servers are listed changes nothing, every finding is documented and says what
// to do, and a site with an error is in trouble.
func TestLaws(t *testing.T) {
	known := map[string]bool{}
	for _, k := range finding.Codes {
		known[k.Code] = true
	}
	names := make([]string, 0, len(codes))
	for code := range codes {
		names = append(names, code)
	}
	slices.Sort(names)
	rapid.Check(t, func(t *rapid.T) {
		picked := rapid.SliceOfNDistinct(rapid.SampledFrom(names), 0, 4, func(s string) string { return s }).Draw(t, "what is wrong")
		build := func() Evidence {
			e := healthy()
			for _, code := range picked {
				func() {
					defer func() { _ = recover() }() // one thing that is wrong may leave nothing for the next to break
					codes[code].fires(&e)
				}()
			}
			return e
		}
		e, turned := build(), build()
		for i := range turned.Sites {
			slices.Reverse(turned.Sites[i].Contacts)
			slices.Reverse(turned.Sites[i].Resolvers)
		}
		r, r2 := Judge(e), Judge(turned)
		for i, s := range r.Sites {
			if s.State != r2.Sites[i].State || s.OverHTTP.Ready != r2.Sites[i].OverHTTP.Ready || s.OverDNS.Ready != r2.Sites[i].OverDNS.Ready {
				t.Fatalf("order matters: %v and %v", s, r2.Sites[i])
			}
			bad := slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.Severity == finding.Error && f.Subject == short(s.Name) })
			if bad != (s.State == NeedsAction) {
				t.Fatalf("%s is %s with %v", s.Name, s.State, r.Findings)
			}
		}
		for _, f := range r.Findings {
			if !known[f.Code] || f.Message == "" || f.Remedy == "" || f.Subject == "" {
				t.Fatalf("not a finding: %v", f)
			}
		}
	})
}

func ExampleCertificate() {
	c := Certificate{Names: []string{"*.pier.example"}}
	for _, name := range []string{"a.pier.example", "pier.example", "b.a.pier.example"} {
		fmt.Println(name, c.covers(dnsname.MustParse(name)))
	}
	// Output:
	// a.pier.example true
	// pier.example false
	// b.a.pier.example false
}

// What is true of http and https at one address names the address once.
func TestOneAddressIsNamedOnce(t *testing.T) {
	e := healthy()
	for _, secure := range []bool{false, true} {
		e.at(0, four, secure).Status, e.at(0, four, secure).Leads = 404, ""
	}
	for _, f := range Judge(e).Findings {
		assert.LessOrEqual(t, strings.Count(f.Message, four.String()), 1, f.Message)
	}
	assert.True(t, found(Judge(e), "site-status"))
}
