package resolve

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/reach"
	"beacon/resolve/peerstest"
)

// staged is one domain in the lab: how it is made, and what must be said of it.
type staged struct {
	name   string
	make   func(l *peerstest.Lab, domain string)
	dnssec dnssec.State // unbound must come to the same; indeterminate ones it cannot tell either
	codes  []string     // of errors and warnings, all of them
}

var hosts = []string{"ns1.hosts.example.", "ns2.hosts.example."}

func delegate(l *peerstest.Lab, domain string, more ...string) {
	l.Delegate(domain+" NS ns1.hosts.example.", domain+" NS ns2.hosts.example.")
	l.Delegate(more...)
}

// plain serves the same unsigned zone on both servers.
func plain(l *peerstest.Lab, domain string) {
	text := peerstest.Zone(domain, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1")
	l.Serve(peerstest.East, domain, text)
	l.Serve(peerstest.West, domain, text)
}

// signed serves a signed zone on both servers, and has the registry know its key by what ds makes of it.
func signed(s peerstest.Signing, ds func(l *peerstest.Lab, key string) string) func(*peerstest.Lab, string) {
	return func(l *peerstest.Lab, domain string) {
		key := l.Key(domain, s)
		text := l.Sign(domain, peerstest.Zone(domain, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1", "*.many A 192.0.2.7"), key, s)
		l.Serve(peerstest.East, domain, text)
		l.Serve(peerstest.West, domain, text)
		line := l.DS(key, s.Digest)
		if ds != nil {
			line = ds(l, key)
		}
		delegate(l, domain, line)
	}
}

// edited signs a zone and serves what edit makes of it on the given servers, the rest as it should be.
func edited(s peerstest.Signing, edit func(string) string, sites ...string) func(*peerstest.Lab, string) {
	return func(l *peerstest.Lab, domain string) {
		key := l.Key(domain, s)
		text := l.Sign(domain, peerstest.Zone(domain, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1"), key, s)
		for _, site := range []string{peerstest.East, peerstest.West} {
			if slices.Contains(sites, site) {
				l.Serve(site, domain, edit(text))
			} else {
				l.Serve(site, domain, text)
			}
		}
		delegate(l, domain, l.DS(key, ""))
	}
}

// without drops the records that contain a text, with all the lines that belong to them.
func without(what string) func(string) string {
	return func(text string) string {
		var out []string
		for _, rr := range records(text) {
			if !strings.Contains(rr.String(), what) {
				out = append(out, rr.String())
			}
		}
		return strings.Join(out, "\n")
	}
}

// otherNext makes the first proof of absence say something else than what was signed.
func otherNext(text string) string {
	var out []string
	for _, rr := range records(text) {
		if nsec, ok := rr.(*dns.NSEC); ok && strings.HasPrefix(nsec.NextDomain, "www.") {
			nsec.NextDomain = "x" + nsec.NextDomain
		}
		out = append(out, rr.String())
	}
	return strings.Join(out, "\n")
}

func records(text string) (out []dns.RR) {
	p := dns.NewZoneParser(strings.NewReader(text), ".", "")
	for rr, more := p.Next(); more; rr, more = p.Next() {
		out = append(out, rr)
	}
	return out
}

func otherDS(l *peerstest.Lab, key string) string {
	return l.DS(l.Key(strings.Fields(l.DS(key, ""))[0], peerstest.Signing{}), "")
}

var both = []string{peerstest.East, peerstest.West}

var stage = []staged{
	{"plain", func(l *peerstest.Lab, d string) { plain(l, d); delegate(l, d) }, dnssec.Insecure, nil},
	{"signed", signed(peerstest.Signing{}, nil), dnssec.Secure, nil},
	{"nsec3", signed(peerstest.Signing{NSEC3: true}, nil), dnssec.Secure, nil},
	{"rounds", signed(peerstest.Signing{NSEC3: true, Rounds: 12}, nil), dnssec.Secure, []string{"nsec3-iterations"}},
	{"ed25519", signed(peerstest.Signing{Algorithm: "ED25519"}, nil), dnssec.Secure, nil},
	{"ed448", signed(peerstest.Signing{Algorithm: "ED448"}, nil), dnssec.Secure, nil},
	{"p384", signed(peerstest.Signing{Algorithm: "ECDSAP384SHA384", Digest: "SHA-384"}, nil), dnssec.Secure, nil},
	{"rsa", signed(peerstest.Signing{Algorithm: "RSASHA256", Bits: 2048}, nil), dnssec.Secure, nil},
	{"salted", signed(peerstest.Signing{NSEC3: true, Salt: "abcd"}, nil), dnssec.Secure, nil},
	{"asking", func(l *peerstest.Lab, d string) {
		key := l.Key(d, peerstest.Signing{})
		cds := strings.Replace(l.DS(l.Key(d, peerstest.Signing{}), ""), " DS ", " CDS ", 1)
		text := l.Sign(d, peerstest.Zone(d, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1", cds, "@ CSYNC 5 3 NS A"), key, peerstest.Signing{})
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		delegate(l, d, l.DS(key, ""))
	}, dnssec.Secure, []string{"ds-change-would-break"}},
	{"leaving", func(l *peerstest.Lab, d string) {
		key := l.Key(d, peerstest.Signing{})
		text := l.Sign(d, peerstest.Zone(d, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1", "@ CDS 0 0 0 00"), key, peerstest.Signing{})
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		delegate(l, d, l.DS(key, ""))
	}, dnssec.Secure, []string{"ds-removal-requested"}},
	{"rsasha1", signed(peerstest.Signing{Algorithm: "RSASHA1", Bits: 2048}, nil), dnssec.Secure, []string{"algorithm-weak"}},
	{"sha1ds", signed(peerstest.Signing{Digest: "SHA-1"}, nil), dnssec.Secure, []string{"ds-digest-weak"}},
	{"island", signed(peerstest.Signing{}, func(*peerstest.Lab, string) string { return "" }), dnssec.Insecure, nil},
	{"otherkey", signed(peerstest.Signing{}, otherDS), dnssec.Bogus, []string{"ds-without-key"}},
	{"leftover", signed(peerstest.Signing{}, func(l *peerstest.Lab, key string) string { return l.DS(key, "") + otherDS(l, key) }), dnssec.Secure, []string{"ds-left-over"}},
	{"odddigest", signed(peerstest.Signing{}, func(l *peerstest.Lab, key string) string {
		f := strings.Fields(l.DS(key, ""))
		return fmt.Sprintf("%s DS %s %s 250 ABCD", f[0], f[3], f[4])
	}), dnssec.Insecure, []string{"ds-unsupported"}},
	{"oddalgorithm", signed(peerstest.Signing{}, func(l *peerstest.Lab, key string) string {
		f := strings.Fields(l.DS(key, ""))
		return fmt.Sprintf("%s DS %s 200 2 %s", f[0], f[3], strings.Repeat("AB", 32))
	}), dnssec.Insecure, []string{"ds-unsupported"}},
	{"expired", signed(peerstest.Signing{Begin: "now-864000", End: "now-86400"}, nil), dnssec.Bogus, []string{"signature-expired"}},
	{"early", signed(peerstest.Signing{Begin: "now+86400", End: "now+864000"}, nil), dnssec.Bogus, []string{"signature-early"}},
	{"ending", signed(peerstest.Signing{Begin: "now-864000", End: "now+7200"}, nil), dnssec.Secure, []string{"signature-ends-soon"}},
	{"unsigned", func(l *peerstest.Lab, d string) { plain(l, d); delegate(l, d, l.DS(l.Key(d, peerstest.Signing{}), "")) }, dnssec.Bogus, []string{"ds-without-key"}},
	{"tampered", edited(peerstest.Signing{}, func(text string) string { return strings.ReplaceAll(text, "192.0.2.1", "192.0.2.66") }, both...), dnssec.Bogus, []string{"signature-wrong"}},
	{"bare", edited(peerstest.Signing{}, without("\tRRSIG\tSOA"), both...), dnssec.Bogus, []string{"signature-missing"}},
	{"keysbare", edited(peerstest.Signing{}, without("\tRRSIG\tDNSKEY"), both...), dnssec.Bogus, []string{"keys-unsigned"}},
	{"holes", edited(peerstest.Signing{}, otherNext, both...), dnssec.Secure, []string{"signature-wrong"}},
	{"oneexpired", func(l *peerstest.Lab, d string) {
		key := l.Key(d, peerstest.Signing{})
		zone := peerstest.Zone(d, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1")
		l.Serve(peerstest.East, d, l.Sign(d, zone, key, peerstest.Signing{}))
		l.Serve(peerstest.West, d, l.Sign(d, zone, key, peerstest.Signing{Begin: "now-864000", End: "now-86400"}))
		delegate(l, d, l.DS(key, ""))
	}, dnssec.Secure, []string{"signature-expired"}},

	{"refused", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, hosts, "@ A 192.0.2.1"))
		delegate(l, d)
	}, dnssec.Insecure, []string{"nameserver-lame"}},
	{"nowhere", func(l *peerstest.Lab, d string) { delegate(l, d) }, dnssec.Insecure, []string{"nameserver-lame", "zone-not-at-provider"}},
	{"silent", func(l *peerstest.Lab, d string) {
		text := peerstest.Zone(d, 5, []string{"ns1.hosts.example.", "ns." + d}, "@ A 192.0.2.1", "ns A "+l.IP(peerstest.Nobody))
		l.Serve(peerstest.East, d, text)
		l.Delegate(d+" NS ns1.hosts.example.", d+" NS ns."+d, "ns."+d+" A "+l.IP(peerstest.Nobody))
	}, dnssec.Insecure, []string{"nameserver-silent"}},
	{"skew", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1"))
		l.Serve(peerstest.West, d, peerstest.Zone(d, 9, hosts, "@ A 192.0.2.1", "www A 192.0.2.1"))
		delegate(l, d)
	}, dnssec.Insecure, []string{"serials-differ"}},
	{"stale", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, hosts, "@ A 192.0.2.1", "www A 192.0.2.1"))
		l.Serve(peerstest.West, d, peerstest.Zone(d, 4, hosts, "@ A 192.0.2.9", "www A 192.0.2.1"))
		delegate(l, d)
	}, dnssec.Insecure, []string{"answers-differ", "serials-differ"}},
	{"noglue", func(l *peerstest.Lab, d string) {
		own := []string{"ns1." + d, "ns2." + d}
		text := peerstest.Zone(d, 5, own, "@ A 192.0.2.1", "ns1 A "+l.IP(peerstest.East), "ns2 A "+l.IP(peerstest.West))
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		l.Delegate(d+" NS ns1."+d, d+" NS ns2."+d, "ns1."+d+" A "+l.IP(peerstest.East))
	}, dnssec.Insecure, []string{"glue-missing"}},
	{"oldglue", func(l *peerstest.Lab, d string) {
		own := []string{"ns1." + d, "ns2." + d}
		text := peerstest.Zone(d, 5, own, "@ A 192.0.2.1", "ns1 A "+l.IP(peerstest.East), "ns2 A "+l.IP(peerstest.West))
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		l.Delegate(d+" NS ns1."+d, d+" NS ns2."+d, "ns1."+d+" A "+l.IP(peerstest.East), "ns2."+d+" A "+l.IP(peerstest.Nobody))
	}, dnssec.Insecure, []string{"glue-stale", "nameserver-silent"}},
	{"goodglue", func(l *peerstest.Lab, d string) {
		own := []string{"ns1." + d, "ns2." + d}
		text := peerstest.Zone(d, 5, own, "@ A 192.0.2.1", "ns1 A "+l.IP(peerstest.East), "ns2 A "+l.IP(peerstest.West))
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		l.Delegate(d+" NS ns1."+d, d+" NS ns2."+d, "ns1."+d+" A "+l.IP(peerstest.East), "ns2."+d+" A "+l.IP(peerstest.West))
	}, dnssec.Insecure, nil},
	{"single", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, hosts[:1], "@ A 192.0.2.1"))
		l.Delegate(d + " NS ns1.hosts.example.")
	}, dnssec.Insecure, []string{"nameserver-single"}},
	{"others", func(l *peerstest.Lab, d string) {
		text := peerstest.Zone(d, 5, []string{"ns1.hosts.example.", "ns3.hosts.example."}, "@ A 192.0.2.1")
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		delegate(l, d)
	}, dnssec.Insecure, []string{"child-set-differs"}},
	{"missing", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, []string{"ns1.hosts.example.", "ns9.hosts.example."}, "@ A 192.0.2.1"))
		l.Delegate(d+" NS ns1.hosts.example.", d+" NS ns9.hosts.example.")
	}, dnssec.Insecure, []string{"nameserver-missing", "nameservers-one-address"}},
	{"alias", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, []string{"ns1.hosts.example.", "ns.alias.hosts.example."}, "@ A 192.0.2.1"))
		l.Delegate("ns.alias.hosts CNAME ns2.hosts", d+" NS ns1.hosts.example.", d+" NS ns.alias.hosts.example.")
	}, dnssec.Insecure, []string{"nameserver-is-alias", "nameservers-one-address"}},
	{"circle", func(l *peerstest.Lab, d string) {
		l.Serve(peerstest.East, d, peerstest.Zone(d, 5, []string{"ns1.hosts.example.", "ns.other-circle.example."}, "@ A 192.0.2.1"))
		l.Delegate(d+" NS ns1.hosts.example.", d+" NS ns.other-circle.example.", "other-circle.example. NS ns.third-circle.example.", "third-circle.example. NS ns.other-circle.example.")
	}, dnssec.Insecure, []string{"nameserver-circular", "nameservers-one-address"}},
	{"apexalias", func(l *peerstest.Lab, d string) {
		text := peerstest.Zone(d, 5, hosts, "www A 192.0.2.1", "old DNAME www."+d)
		l.Serve(peerstest.East, d, text)
		l.Serve(peerstest.West, d, text)
		delegate(l, d)
	}, dnssec.Insecure, nil},
	{"samebox", func(l *peerstest.Lab, d string) {
		text := peerstest.Zone(d, 5, []string{"a.samebox.example.", "b.samebox.example."}, "@ A 192.0.2.1", "a A "+l.IP(peerstest.East), "b A "+l.IP(peerstest.East))
		l.Serve(peerstest.East, d, text)
		l.Delegate(d+" NS a."+d, d+" NS b."+d, "a."+d+" A "+l.IP(peerstest.East), "b."+d+" A "+l.IP(peerstest.East))
	}, dnssec.Insecure, []string{"nameservers-one-address"}},
	{"deep.refused", func(*peerstest.Lab, string) {}, dnssec.Indeterminate, []string{"not-registered", "parent-lame"}},
	{"deep.nowhere", func(*peerstest.Lab, string) {}, dnssec.Indeterminate, []string{"zone-above-broken"}},
	{"far.deep.nowhere", func(*peerstest.Lab, string) {}, dnssec.Indeterminate, []string{"zone-above-broken"}},
	{"unknown", func(*peerstest.Lab, string) {}, dnssec.Indeterminate, []string{"not-registered"}},
}

// keepEvidence keeps the evidence for the tests of core/delegation, where that is asked for: BEACON_RECORD=yes go test -run RealServers.
func keepEvidence(t *testing.T, name string, sweep evidence.Sweep) {
	if os.Getenv("BEACON_RECORD") == "" {
		return
	}
	sweep.Heard = nil
	text, err := json.MarshalIndent(sweep, "", " ")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile("../core/delegation/testdata/"+name+".json", append(text, '\n'), 0o600))
}

// concerns reports whether signatures play a part in a domain.
func concerns(s evidence.Sweep) bool {
	return slices.ContainsFunc(s.Parents, func(p evidence.ParentAnswer) bool { return len(p.DS.DS()) > 0 }) ||
		slices.ContainsFunc(s.Servers, func(a evidence.ServerAnswer) bool { return len(a.Keys.Keys()) > 0 })
}

// Thirty-odd domains at real servers, in all states of health, are judged right; and of the signed ones a real validating resolver
// thinks the same.
func TestRealServers(t *testing.T) {
	if !peerstest.InNamespace(t) {
		return
	}
	l := peerstest.New(t)
	for _, c := range stage {
		c.make(l, c.name+".example.")
	}
	l.Start()
	hints, err := ReadHints(l.Hints, 53)
	require.NoError(t, err)
	anchors, err := dnssec.ReadAnchors(l.Anchors)
	require.NoError(t, err)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	t.Cleanup(client.Close)
	s := &Sweeper{Client: client, Hints: hints, Port: 53, Anchors: anchors, Now: time.Now, Resolvers: []Resolver{{Name: "cache", Address: l.At(peerstest.Cache)}}}
	for _, c := range stage {
		t.Run(c.name, func(t *testing.T) {
			domain := dnsname.MustParse(c.name + ".example")
			sweep := s.Sweep(context.Background(), domain, Scope{Watched: delegation.Watched(domain, nil), Tape: true})
			r := delegation.Judge(delegation.Plan{Domain: domain}, delegation.Advance(delegation.History{}, sweep), sweep)
			keepEvidence(t, c.name, sweep)
			var codes []string
			for _, f := range r.Findings {
				if f.Severity >= finding.Warning && f.Code != "resolver-refuses" && f.Code != "resolver-fails" {
					codes = append(codes, f.Code)
				}
			}
			slices.Sort(codes)
			codes = slices.Compact(codes)
			assert.Equal(t, c.codes, codes, "%+v", r.Findings)
			assert.Equal(t, c.dnssec, r.DNSSEC)
			assert.Less(t, sweep.Asked, 120, "questions")
			if !concerns(sweep) {
				return
			}
			believes := l.Believes(peerstest.Cache, domain.String(), dns.TypeSOA)
			if other := l.Believes(peerstest.Cache, domain.String(), dns.TypeA); other == "bogus" {
				believes = other
			}
			if believes != "indeterminate" {
				assert.EqualValues(t, c.dnssec, believes, "what the validating resolver thinks")
			}
		})
	}
}
