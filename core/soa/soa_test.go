package soa

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/record"
)

var zone = dnsname.MustParse("saltmarsh-ferries.example")

func drawParameters(rt *rapid.T) (p Parameters) {
	for _, field := range Fields {
		text := rapid.SampledFrom([]string{"", "3600", "1w", "1"}).Draw(rt, field)
		if field == "mname" || field == "rname" {
			text = rapid.SampledFrom([]string{"", "ns1.tidepool.test.", "host.master@tides.example", `odd\"one.tides.example.`}).Draw(rt, field)
			if field == "mname" && text == "host.master@tides.example" {
				text = "ns2.tidepool.test."
			}
		}
		if err := p.Set(field, text); err != nil {
			rt.Fatal(err)
		}
	}
	return p
}

func TestParametersArePrintedAsTheyAreRead(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		p := drawParameters(rt)
		var again Parameters
		for _, field := range Fields {
			require.NoError(rt, again.Set(field, p.Get(field)))
		}
		assert.Equal(rt, p, again)
		text, err := json.Marshal(p)
		require.NoError(rt, err)
		var stored Parameters
		require.NoError(rt, json.Unmarshal(text, &stored))
		assert.Equal(rt, p, stored)
	})
}

func TestLayersOfParameters(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		a, b := drawParameters(rt), drawParameters(rt)
		over := a.Over(b)
		for _, field := range Fields {
			want := a.Get(field)
			if want == "" {
				want = b.Get(field)
			}
			assert.Equal(rt, want, over.Get(field), field)
		}
		some := Fields[:rapid.IntRange(0, len(Fields)).Draw(rt, "taken")]
		assert.Equal(rt, a, a.Only(some).Over(a), "what is taken out of parameters is theirs")
		assert.ElementsMatch(rt, a.Given(), append(a.Only(some).Given(), a.Lacking(some)...))
	})
}

func TestARecordKeepsAllFieldsButTheSerial(t *testing.T) {
	live := record.NewSet(zone, record.SOA, 3600, "ns1.tidepool.test. host\\.master.tides.example. 2026010107 7200 900 1209600 300")
	p, ok := Of(live)
	require.True(t, ok)
	assert.Equal(t, "mname=ns1.tidepool.test. rname=host.master@tides.example refresh=7200 retry=900 expire=1209600 minimum=300 ttl=3600", p.String())
	assert.Equal(t, record.Data("ns1.tidepool.test. host\\.master.tides.example. 0 7200 900 1209600 300"), p.Record(zone).Data[0])
	assert.Equal(t, p.Record(zone), Unnumbered(live))
	for _, other := range []record.Set{{}, record.NewSet(zone, record.NS, 60, "ns1.tidepool.test."), record.NewSet(zone, record.SOA, 60, "a. b. 1 2 3 4"), record.NewSet(zone, record.SOA, 60, "a. b. 1 2 3 4 5", "a. b. 2 2 3 4 5")} {
		_, ok := Of(other)
		assert.False(t, ok, other)
		assert.Equal(t, other, Unnumbered(other))
	}
}

func TestChangesOfARecord(t *testing.T) {
	was := Parameters{RName: dnsname.MustParse("a.tides.example"), Minimum: 300}
	now := Parameters{RName: dnsname.MustParse("b.tides.example"), Minimum: 600}
	assert.Equal(t, "rname: a@tides.example -> b@tides.example; minimum: 300 -> 600", Changes(was.Record(zone), now.Record(zone)))
	assert.Empty(t, Changes(was.Record(zone), was.Record(zone)))
	assert.Empty(t, Changes(record.Set{}, now.Record(zone)))
}

func TestFieldsThatAreRefused(t *testing.T) {
	for name, c := range map[string]struct{ field, text, says string }{
		"the serial":        {"serial", "7", `"serial" is no field of an SOA record that can be set`},
		"no time":           {"refresh", "soon", `refresh: "soon" is no time`},
		"nothing":           {"minimum", "0", `minimum: "0" is no time`},
		"too long":          {"expire", "4000000000", "expire:"},
		"no name":           {"mname", "a..b", "mname:"},
		"nobody":            {"rname", "@tides.example", `rname: "@tides.example" is no mail address`},
		"a mailbox nowhere": {"rname", "x@a..b", "rname:"},
	} {
		t.Run(name, func(t *testing.T) {
			p := Parameters{Refresh: 60}
			assert.ErrorContains(t, p.Set(c.field, c.text), c.says)
		})
	}
	assert.Contains(t, Parameters{Refresh: 3600, Retry: 600, Expire: 4200}.Problem(), "expire (4200 s) must be longer")
	assert.Empty(t, Parameters{Refresh: 3600, Retry: 600, Expire: 4201}.Problem())
	assert.Empty(t, Parameters{Refresh: 3600}.Problem())
}

func FuzzMailbox(f *testing.F) {
	for _, text := range []string{"hostmaster@tides.example", "host.master@tides.example", `a\.b.tides.example.`, "@", "a@b@c"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		name, err := ParseMailbox(text)
		if err != nil {
			return
		}
		again, err := ParseMailbox(Address(name))
		assert.NoError(t, err)
		assert.Equal(t, name, again, Address(name))
	})
}
