package resolve

import (
	"context"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/finding"
	"beacon/reach"
	"beacon/resolve/peerstest"
)

// One server has the root, the registry's zone, the domains, and zones within them, so that every referral is missing: it answers from
// the deepest zone at once. The chain of trust is found all the same, and a real validating resolver comes to the same.
func TestOneServerForAll(t *testing.T) {
	if !peerstest.InNamespace(t) {
		return
	}
	l := peerstest.New(t)
	here := []string{"a.root."}
	zoneText := func(zone string, lines ...string) string { return peerstest.Zone(zone, 3, here, lines...) }
	sign := func(zone string, lines ...string) (ds string) {
		key := l.Key(zone, peerstest.Signing{})
		l.Serve(peerstest.Root, zone, l.Sign(zone, zoneText(zone, lines...), key, peerstest.Signing{}))
		return l.DS(key, "")
	}
	site := []string{"@ A 192.0.2.1", "www A 192.0.2.1"}
	inner := sign("inner.signed.example.", site...)
	l.Serve(peerstest.Root, "plain.signed.example.", zoneText("plain.signed.example.", site...))
	signed := sign("signed.example.", append(site, "inner NS a.root.", "plain NS a.root.", inner)...)
	l.Serve(peerstest.Root, "plain.example.", zoneText("plain.example.", site...))
	l.Serve(peerstest.Root, "deep.plain.example.", zoneText("deep.plain.example.", site...))
	l.Serve(peerstest.Root, "broken.example.", zoneText("broken.example.", site...))
	registry := sign("example.", "signed NS a.root.", "plain NS a.root.", "broken NS a.root.", signed, l.DS(l.Key("broken.example.", peerstest.Signing{}), ""))
	rootKey := l.Key(".", peerstest.Signing{})
	l.Serve(peerstest.Root, ".", l.Sign(".", zoneText(".", "a.root. A "+l.IP(peerstest.Root), "example. NS a.root.", registry), rootKey, peerstest.Signing{}))
	l.Ready(rootKey)
	l.Named(peerstest.Root)
	l.Unbound(peerstest.Cache)

	hints, err := ReadHints(l.Hints, 53)
	require.NoError(t, err)
	anchors, err := dnssec.ReadAnchors(l.Anchors)
	require.NoError(t, err)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	t.Cleanup(client.Close)
	s := &Sweeper{Client: client, Hints: hints, Port: 53, Anchors: anchors, Now: time.Now}
	for name, want := range map[string]dnssec.State{"example": dnssec.Secure, "signed.example": dnssec.Secure, "inner.signed.example": dnssec.Secure, "plain.signed.example": dnssec.Insecure,
		"plain.example": dnssec.Insecure, "deep.plain.example": dnssec.Insecure, "broken.example": dnssec.Bogus} {
		t.Run(name, func(t *testing.T) {
			domain := dnsname.MustParse(name)
			sweep := s.Sweep(context.Background(), domain, Scope{Watched: delegation.Watched(domain, nil)})
			r := delegation.Judge(delegation.Plan{Domain: domain}, delegation.Advance(delegation.History{}, sweep), sweep)
			assert.Equal(t, want, r.DNSSEC, "%+v", r.Findings)
			assert.Equal(t, string(want), l.Believes(peerstest.Cache, domain.String(), dns.TypeSOA), "what the validating resolver thinks")
			for _, f := range r.Findings {
				if want != dnssec.Bogus {
					assert.NotEqual(t, finding.Error, f.Severity, "%s", f)
				}
			}
		})
	}
}
