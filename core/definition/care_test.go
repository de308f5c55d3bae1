package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/record"
)

// How a zone is looked after is read, and written so that it reads the same.
func TestCare(t *testing.T) {
	const text = `zones:
  saltmarsh-ferries.example:
    at: [heron-main]
    drift: put back
    protect: ["@ MX", "www *"]
    only_ours: true
    sites: ["@", shop]
    extras:
      "www A": {relay: "on", memo: pier}
      "@ A": {relay: "off"}
    records: |
      @ A 192.0.2.1
      www A 192.0.2.2
`
	d, faults := Read([]File{{Name: "x.beacon.yaml", Text: text}})
	require.Empty(t, faults)
	care := d.Zones[0].Care
	assert.Equal(t, DriftPutBack, care.Drift)
	assert.True(t, care.OnlyOurs)
	require.Len(t, care.Protect, 2)
	assert.Equal(t, []string{"@", "shop"}, SiteLabels(care.Sites, d.Zones[0].Name))
	require.Len(t, care.Extras, 2)
	assert.Equal(t, record.A, care.Extras[0].Key.Type)
	assert.Equal(t, map[string]string{"relay": "on", "memo": "pier"}, care.Extras[1].Values)
	again, faults := Read([]File{{Name: "x.beacon.yaml", Text: Write(d.Zones, nil)}})
	require.Empty(t, faults, "%s", Write(d.Zones, nil))
	assert.Equal(t, care, again.Zones[0].Care)
}

func TestCareFaults(t *testing.T) {
	for line, says := range map[string]string{
		"drift: sometimes":                   "nothing that can become of changes made elsewhere",
		"sites: www":                         `"sites" is a list of names`,
		"sites: [www.b.example.]":            "\"www.b.example.\" does not lie in a.example",
		"sites: [a, b, c, d, e, f, g, h, i]": "at most 8 names",
		"only_ours: perhaps":                 `"only_ours" is true or false`,
		"protect: www":                       `"protect" is a list of patterns`,
		`protect: ["www"]`:                   "no pattern",
		"extras: [x]":                        "one entry for each record set",
		`extras: {"www": {relay: "on"}}`:     "no record set with attributes",
		`extras: {"www A": on}`:              "no record set with attributes",
		`extras: {"www X": {a: b}}`:          "no record set with attributes",
	} {
		_, faults := Read([]File{{Name: "x.beacon.yaml", Text: "zones:\n  a.example:\n    at: [heron-main]\n    " + line + "\n    records: |\n      @ A 192.0.2.1\n"}})
		require.Len(t, faults, 1, line)
		assert.Contains(t, faults[0].Error(), says)
		assert.Equal(t, 4, faults[0].Line, line)
	}
}
