package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/record"
)

// How a zone is looked after is read, and written so that it reads the same.
func TestSettings(t *testing.T) {
	const text = `zones:
  saltmarsh-ferries.example:
    providers: [heron-main]
    drift: revert
    protect: ["@ MX", "www *"]
    keep_existing: true
    websites: ["@", shop]
    soa: {rname: dock.master@a.example, minimum: 5m, ttl: 1h}
    attributes:
      "www A": {relay: "on", memo: pier}
      "@ A": {relay: "off"}
    records: |
      @ A 192.0.2.1
      www A 192.0.2.2
`
	d, faults := Read([]File{{Name: "x.beacon.yaml", Text: text}})
	require.Empty(t, faults)
	settings := d.Zones[0].Settings
	assert.Equal(t, DriftRevert, settings.Drift)
	assert.True(t, settings.KeepExisting)
	require.Len(t, settings.Protect, 2)
	assert.Equal(t, []string{"@", "shop"}, WebsiteLabels(settings.Websites, d.Zones[0].Name))
	assert.Equal(t, "rname=dock.master@a.example minimum=300 ttl=3600", settings.SOA.String())
	require.Len(t, settings.Attributes, 2)
	assert.Equal(t, record.A, settings.Attributes[0].Key.Type)
	assert.Equal(t, map[string]string{"relay": "on", "memo": "pier"}, settings.Attributes[1].Values)
	again, faults := Read([]File{{Name: "x.beacon.yaml", Text: Write(d.Zones, nil)}})
	require.Empty(t, faults, "%s", Write(d.Zones, nil))
	assert.Equal(t, settings, again.Zones[0].Settings)
}

func TestSettingsFaults(t *testing.T) {
	for line, says := range map[string]string{
		"drift: sometimes":                      "nothing that can become of changes made elsewhere",
		"websites: www":                         `"websites" is a list of names`,
		"websites: [www.b.example.]":            "\"www.b.example.\" does not lie in a.example",
		"websites: [a, b, c, d, e, f, g, h, i]": "at most 8 names",
		"keep_existing: perhaps":                `"keep_existing" is true or false`,
		"protect: www":                          `"protect" is a list of patterns`,
		`protect: ["www"]`:                      "no pattern",
		"soa: 5m":                               `"soa" holds fields of the SOA record`,
		"soa: {serial: 5}":                      `"serial" is no field of an SOA record that can be set`,
		"soa: {minimum: soon}":                  `minimum: "soon" is no time`,
		"soa: {minimum: }":                      `"minimum" has no value`,
		"soa: {refresh: 1h, expire: 1m}":        "expire (60 s) must be longer than refresh",
		"attributes: [x]":                       "one entry for each record set",
		`attributes: {\"www": {relay: "on"}}`:   "no record set with attributes",
		`attributes: {\"www A": on}`:            "no record set with attributes",
		`attributes: {\"www X": {a: b}}`:        "no record set with attributes",
	} {
		_, faults := Read([]File{{Name: "x.beacon.yaml", Text: "zones:\n  a.example:\n    providers: [heron-main]\n    " + line + "\n    records: |\n      @ A 192.0.2.1\n"}})
		require.Len(t, faults, 1, line)
		assert.Contains(t, faults[0].Error(), says)
		assert.Equal(t, 4, faults[0].Line, line)
	}
}
