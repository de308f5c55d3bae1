package handover

import (
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnssec"
	"beacon/core/evidence"
)

// A DS is published only where it fits what every server serves.
func TestPlanDS(t *testing.T) {
	key, sign := signer(t)
	soa, ns := soaAndNS(t)
	signed := func() DSFacts {
		f := healthy()
		each(&f, oak, false, func(a *evidence.ServerAnswer) {
			zsk := &dns.DNSKEY{Hdr: key.Hdr, Flags: 256, Protocol: 3, Algorithm: key.Algorithm, PublicKey: "oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA=="}
			a.Keys, a.Signed = sign(key, zsk), append(sign(soa), sign(ns)...)
		})
		return DSFacts{Domain: domain, Active: oak, Sweep: f.Sweep}
	}
	other, _ := signer(t)
	for _, c := range []struct {
		name   string
		change func(*DSFacts)
		closed []string
		ds     int
	}{
		{"all of it signed", func(*DSFacts) {}, nil, 1},
		{"a server with other keys", func(f *DSFacts) { f.Sweep.Servers[1].Keys = append(f.Sweep.Servers[1].Keys, other) }, []string{GateDSKeysDiffer}, 1},
		{"a silent server", func(f *DSFacts) { silent(&f.Sweep.Servers[0]) }, []string{GateDSKeysDiffer}, 1},
		{"a server without signatures", func(f *DSFacts) { f.Sweep.Servers[2].Signed = dnssec.Records{soa, ns} }, []string{GateDSInvalid}, 1},
		{"signatures that are over", func(f *DSFacts) { f.Sweep.Ended = now.AddDate(1, 0, 0) }, []string{GateDSInvalid}, 0},
		{"not signed", func(f *DSFacts) {
			for i := range f.Sweep.Servers {
				f.Sweep.Servers[i].Keys = nil
			}
		}, []string{GateDSUnsigned}, 0},
		{"a lock", func(f *DSFacts) {
			f.Registration = delegation.Registration{Status: []string{"client update prohibited"}}
		}, []string{GateLocked}, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := signed()
			c.change(&f)
			p := PlanDS(f)
			closed := Closed(p.Found, nil)
			var seen []string
			for _, g := range closed {
				if len(seen) == 0 || seen[len(seen)-1] != g.Code {
					seen = append(seen, g.Code)
				}
				assert.NotEmpty(t, g.Remedy)
			}
			assert.Equal(t, c.closed, seen)
			require.Len(t, p.DS, c.ds)
			require.Len(t, p.Keys, c.ds)
			if c.ds == 1 {
				rr, err := dns.NewRR(domain.String() + " 3600 IN DS " + string(p.DS[0]))
				require.NoError(t, err)
				assert.True(t, dnssec.Fits(rr.(*dns.DS), key), "the key with the SEP flag")
			}
		})
	}
	unsigned := signed()
	for i := range unsigned.Sweep.Servers {
		unsigned.Sweep.Servers[i].Keys = nil
	}
	unsigned.Compare = true
	asked := func(f *DSFacts, yes bool) {
		for i := range f.Sweep.Parents {
			f.Sweep.Parents[i].AskedDS = yes
		}
	}
	asked(&unsigned, true)
	assert.Empty(t, Closed(PlanDS(unsigned).Found, nil), "an unsigned zone without a DS is as it should be")
	asked(&unsigned, false)
	assert.NotEmpty(t, Closed(PlanDS(unsigned).Found, nil), "not asked is never none")
	asked(&unsigned, true)
	unsigned.Sweep.Parents[0].DS = dnssec.Records{key.ToDS(dns.SHA256)}
	assert.NotEmpty(t, Closed(PlanDS(unsigned).Found, nil), "there is a DS that fits nothing")

	f := signed()
	f.Remove = true
	assert.Empty(t, PlanDS(f).Found, "there is no DS at the parents")
	f.Sweep.Parents[0].DS = dnssec.Records{key.ToDS(dns.SHA256)}
	p := PlanDS(f)
	assert.Equal(t, []string{"ds-keep-signed"}, codes(p.Found))
	assert.Empty(t, p.DS)
}
