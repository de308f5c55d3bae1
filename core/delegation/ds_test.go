package delegation

import (
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnssec"
	"beacon/core/evidence"
)

func dsRecord(t *testing.T, ttl uint32) dns.RR {
	t.Helper()
	rr, err := dns.NewRR(domain.String() + " 3600 IN DS 11111 13 2 1122334455667788990011223344556677889900112233445566778899001122")
	require.NoError(t, err)
	rr.Header().Ttl = ttl
	return rr
}

// What one parent served while another was not heard may be held by caches all the same.
func TestDSOfAFewParents(t *testing.T) {
	type heard string // of a parent: "ds", "none", "silent", or "unasked"
	for name, c := range map[string]struct {
		sweeps [][2]heard // one an hour
		from   int        // the sweep from which on the time of the DS counts
	}{
		"one parent was silent at first":            {[][2]heard{{"ds", "silent"}, {"none", "none"}}, 1},
		"one parent was not asked at first":         {[][2]heard{{"unasked", "ds"}, {"none", "none"}}, 1},
		"one parent had none from the beginning":    {[][2]heard{{"ds", "none"}, {"none", "none"}}, 1},
		"it comes back beside a silent one":         {[][2]heard{{"ds", "ds"}, {"none", "none"}, {"silent", "ds"}, {"none", "none"}}, 3},
		"it comes back beside one that was not":     {[][2]heard{{"ds", "ds"}, {"none", "none"}, {"ds", "unasked"}, {"none", "none"}}, 3},
		"it was published at one parent for a time": {[][2]heard{{"none", "none"}, {"ds", "none"}, {"none", "none"}}, 2},
	} {
		t.Run(name, func(t *testing.T) {
			h, at := History{}, time.Time{}
			for i, pair := range c.sweeps {
				s := sweep(time.Duration(i)*time.Hour, oldSet, "plover.test")
				for j, said := range pair {
					p := &s.Parents[j]
					p.AskedDS = said == "ds" || said == "none"
					switch said {
					case "ds":
						p.DS = dnssec.Records{dsRecord(t, 7200)}
					case "silent":
						p.Answer, p.NS = evidence.Silent, nil
					}
				}
				h = Advance(h, s)
				if i == c.from {
					at = lastReceipt(s)
				}
			}
			assert.Empty(t, h.DS.Text)
			assert.Equal(t, at, h.DS.Changed, "since when it is gone")
			assert.EqualValues(t, 7200, h.DS.Held)
		})
	}
}

// How long a DS was held is remembered for as long as keys that it made good may be held.
func TestDSIsRememberedWhileItsKeysAreHeld(t *testing.T) {
	h := History{}
	for i := range 80 {
		s := sweep(time.Duration(i)*time.Hour, oldSet, "plover.test")
		for j := range s.Parents {
			s.Parents[j].AskedDS = true
			if i == 0 {
				s.Parents[j].DS = dnssec.Records{dsRecord(t, 3600)}
			}
		}
		for j := range s.Servers[:2] {
			s.Servers[j].Keys = dnssec.Records{&dns.DNSKEY{Hdr: dns.RR_Header{Name: domain.String(), Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET, Ttl: 259200}}}
		}
		h = Advance(h, s)
		if i == 70 {
			assert.False(t, h.DS.Changed.IsZero())
		}
	}
}
