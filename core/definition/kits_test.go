package definition

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

const kitted = `values:
  office: 192.0.2.7
kits:
  post-office:
    description: Mail by way of the post office
    parameters:
      policy: {type: choice, of: [none, quarantine, reject], default: none, description: what becomes of forged mail}
      host: {type: name, default: mx1.post.example.}
      first: {type: number, min: 1, max: 100, default: 10}
    records: |
      @        MX   ${first} ${host}
      @        TXT  "v=spf1 mx -all"
      _dmarc   TXT  "v=DMARC1; p=${policy}"
  site:
    parameters: [greeting]
    kits: [{post-office: {policy: reject}}, ground]
    ttl: 5m
    records: |
      hello TXT "${greeting}, $${not this}"
  ground:
    records: |
      @ A 192.0.2.40
zones:
  saltmarsh-ferries.example:
    kits: [{post-office: {policy: quarantine}}]
    records: |
      @    A   ${office}
      web  A   192.0.2.40
    ignore: ["_acme-challenge.** TXT"]
  tides.example:
    kits: [{site: {greeting: 'hello: ${office}'}}]
`

func TestKits(t *testing.T) {
	d, faults := Read(files("k.beacon.yaml", kitted))
	require.Empty(t, faults)
	require.Len(t, d.Kits, 3)
	at := func(zone int, name string, typ record.Type) record.Set {
		z := d.Zones[zone]
		n, err := dnsname.ParseRelative(name, z.Name)
		require.NoError(t, err)
		return z.Contents.Get(record.Key{Name: n, Type: typ})
	}
	assert.Equal(t, []record.Data{`"v=DMARC1; p=quarantine"`}, at(0, "_dmarc", record.TXT).Data)
	assert.Equal(t, []record.Data{"192.0.2.7"}, at(0, "@", record.A).Data)
	assert.Equal(t, []record.Data{"10 mx1.post.example."}, at(0, "@", record.MX).Data)
	assert.Equal(t, []record.Data{`"hello: 192.0.2.7, ${not this}"`}, at(1, "hello", record.TXT).Data)
	assert.Equal(t, []record.Data{`"v=DMARC1; p=reject"`}, at(1, "_dmarc", record.TXT).Data)
	assert.EqualValues(t, 300, at(1, "@", record.A).TTL, "a kit's TTL holds for the kits that it uses")

	from := d.Zones[0].FromKits()
	assert.Equal(t, "post-office", from[record.Key{Name: d.Zones[0].Name, Type: record.MX}])
	assert.NotContains(t, from, record.Key{Name: d.Zones[0].Name, Type: record.A})
	assert.Equal(t, Origin{Kit: "post-office", File: "k.beacon.yaml", Line: 11}, d.Zones[0].Origins[2])
	assert.True(t, record.AnyMatches(d.Zones[0].Ignore, record.Key{Name: dnsname.MustParse("_acme-challenge.www.saltmarsh-ferries.example"), Type: record.TXT}))
}

func TestKitFaults(t *testing.T) {
	const zone = "zones:\n  a.example:\n    kits: [%s]\n"
	kit := func(body string) string { return "kits:\n  k:\n" + body }
	uses := func(use, body string) string { return fmt.Sprintf(zone, use) + kit(body) }
	for _, c := range []struct{ name, text, place, says string }{
		{"unknown kit", uses("kk", "    records: |\n      @ A 192.0.2.1\n"), "3:12", `write "k"`},
		{"missing parameter", uses("k", "    parameters: [x]\n    records: |\n      @ TXT \"${x}\"\n"), "3:12", "needs x (text)"},
		{"unknown parameter", uses("{k: {y: 1}}", "    parameters: {x: {type: text, default: a}}\n    records: |\n      @ TXT \"${x}\"\n"), "3:12", `no parameter "y"`},
		{"choice", uses("{k: {x: no}}", "    parameters: {x: {type: choice, of: [a, b]}}\n    records: |\n      @ TXT \"${x}\"\n"), "3:12", "none of a, b"},
		{"number", uses("{k: {x: 7}}", "    parameters: {x: {type: number, max: 5}}\n    records: |\n      @ MX ${x} a.b.\n"), "3:12", "from 0 to 5"},
		{"address", uses("{k: {x: web}}", "    parameters: {x: ipv4}\n    records: |\n      @ A ${x}\n"), "3:12", "no IPv4 address"},
		{"breaking out", uses(`{k: {x: 'a" "b'}}`, "    parameters: [x]\n    records: |\n      @ TXT \"${x}\"\n"), "3:12", "end its record"},
		{"unknown value", uses("k", "    records: |\n      @  TXT \"${x}\"\n"), "7:15", `no value "x"`},
		{"value not closed", uses("k", "    parameters: {x: {default: a}}\n    records: |\n      @  TXT \"${x\"\n"), "8:15", "not closed"},
		{"type", kit("    parameters: {x: colour}\n    records: |\n      @ A 192.0.2.1\n"), "3:21", `no type`},
		{"default", kit("    parameters: {x: {type: ipv4, default: web}}\n    records: |\n      @ A ${x}\n"), "3:43", "no IPv4 address"},
		{"empty", kit("    description: nothing\n"), "2:3", "neither records nor kits"},
		{"unused kit with a fault", kit("    parameters: [x]\n    records: |\n      ok  A  192.0.2.1\n      ${x}  A  web\n"), "6:16", "no IP address"},
		{"itself", kit("    kits: [k]\n"), "2:3", "uses itself"},
		{"twice", kit("    records: |\n      @ A 192.0.2.1\n  k:\n    records: |\n      @ A 192.0.2.2\n"), "5:3", "twice"},
		{"environment", "values:\n  x: {environment: TIDE}\n", "2:20", "the environment has no TIDE"},
		{"left and defined", "zones:\n  a.example:\n    ignore: ['** TXT']\n    records: |\n      b TXT x\n", "5:7", `matches "ignore"`},
		{"pattern", "zones:\n  a.example:\n    ignore: ['x']\n    records: |\n      b TXT x\n", "3:14", "no pattern"},
		{"a kit against the zone", "zones:\n  a.example:\n    kits: [k]\n    records: |\n      www A 192.0.2.1\n" + kit("    records: |\n      www CNAME @\n"), "9:7", "no CNAME may be beside"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, faults := Read(files("f.beacon.yaml", c.text))
			require.NotEmpty(t, faults)
			agree(t, files("f.beacon.yaml", c.text))
			assert.Equal(t, c.place, fmt.Sprintf("%d:%d", faults[0].Line, faults[0].Column), faults[0].Error())
			assert.Contains(t, faults[0].Error(), c.says)
		})
	}
}

func TestSameKitInTwoFiles(t *testing.T) {
	a, b := "kits:\n  k:\n    records: |\n      @ A 192.0.2.1\n", "kits:\n  k:\n    records: |\n      @ A 192.0.2.1\nzones:\n  a.example:\n    kits: [k]\n"
	_, faults := Read(files("a", a, "b", b))
	assert.Empty(t, faults)
}

func TestEnvironment(t *testing.T) {
	text := "values:\n  office: {environment: OFFICE, default: 192.0.2.8}\n  plain: {environment: PLAIN}\nzones:\n  a.example:\n    records: |\n      @ A ${office}\n      @ TXT \"${plain} $HOME\"\n"
	assert.Equal(t, []string{"OFFICE", "PLAIN"}, Variables(text))
	d, faults := Read([]File{{Name: "f", Text: text, Environment: map[string]string{"PLAIN": "words", "HOME": "no"}}})
	require.Empty(t, faults)
	assert.Equal(t, "a.example. 3600 IN A 192.0.2.8", d.Zones[0].Contents.Records()[0].String())
	assert.Equal(t, `a.example. 3600 IN TXT "words $HOME"`, d.Zones[0].Contents.Records()[1].String())
	_, faults = Read([]File{{Name: "f", Text: text, Environment: map[string]string{"PLAIN": "a\nb"}}})
	require.NotEmpty(t, faults, "a value cannot begin a record of its own")
	assert.Equal(t, 3, faults[0].Line)
}

// Definitions that grow without bound are refused quickly.
func TestBombs(t *testing.T) {
	var kits, aliases strings.Builder
	kits.WriteString("kits:\n  k0:\n    records: |\n      @ A 192.0.2.1\n")
	aliases.WriteString("values:\n  a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&kits, "  k%d:\n    kits: [%s]\n", i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("k%d,", i-1), 10), ","))
		fmt.Fprintf(&aliases, "  a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 10), ","))
	}
	for name, text := range map[string]string{"kits": kits.String(), "aliases": aliases.String(), "depth": strings.Repeat("[", 200_000), "keys": strings.Repeat("? ", 50_000)} {
		began := time.Now()
		_, faults := Read(files("f", text))
		assert.NotEmpty(t, faults, name)
		assert.Less(t, time.Since(began), time.Minute, name) // endless, were it not bounded
	}
}

// A zone is written with the kits that it was made of, without anybody saying which.
func TestFit(t *testing.T) {
	d, faults := Read(files("k", kitted))
	require.Empty(t, faults)
	for _, z := range d.Zones {
		bare := Zone{Name: z.Name, Contents: z.Contents, TTL: z.TTL}
		fitted := Fit(bare, d.Kits)
		require.NotEmpty(t, fitted.Uses, z.Name)
		text := Write([]Zone{fitted}, d.Kits)
		back, faults := Read(files("f", text))
		require.Empty(t, faults, text)
		assert.True(t, back.Zones[0].Contents.Equal(z.Contents), text)
	}
	fitted := Fit(Zone{Name: d.Zones[0].Name, Contents: d.Zones[0].Contents, TTL: d.Zones[0].TTL}, d.Kits)
	assert.Equal(t, []Use{{Kit: "post-office", With: map[string]string{"policy": "quarantine"}}}, fitted.Uses)
	assert.Contains(t, Write([]Zone{fitted}, d.Kits), "kits: [{post-office: {policy: quarantine}}]\n    records: |\n      @   A 192.0.2.7\n      web A 192.0.2.40\n")

	other := Fit(Zone{Name: zoneName, Contents: record.ContentsOf(record.NewSet(zoneName, record.A, 60, "192.0.2.1"))}, d.Kits)
	assert.Empty(t, other.Uses, "no kit fits")
}

var zoneName = dnsname.MustParse("elsewhere.example")
