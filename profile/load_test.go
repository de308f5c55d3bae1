package profile_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/demo/profiles"
	"beacon/profile"
)

const least = `profile: small
credential: {send: header, name: Key}
can: {write: sets}
zones: {request: GET /zones, each: ".[]"}
read: {request: "GET /z/{id}", each: ".[]"}
write: {request: "POST /z/{id}", body: .}
`

// Every fault is told with its place and with what to do.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ from, to, place, says string }{
		{"profile: small", "profile: Not a name", "1:10", "no name of a profile"},
		{"profile: small\n", "", "1:1", `"profile" is missing`},
		{"send: header", "send: cookie", "2:20", "Use one of: header, basic, query, form, body, signature, tls"},
		{", name: Key", "", "2:13", `"name" is missing in credential`},
		{"{send: header, name: Key}", "{send: signature, name: Key}", "2:13", "a signature needs hash, over and value"},
		{"can: {write: sets}", "can: {write: sets, batch: many}", "3:27", `"batch" is a number`},
		{"can: {write: sets}", "can: {write: sets, atomic: perhaps}", "3:28", `"atomic" is true or false`},
		{"can: {write: sets}", "can: {write: sets, read_lag: soon}", "3:30", "no time span"},
		{"can: {write: sets}", "can: {write: sets, ttl: {steps: [60, 60]}}", "3:38", "rising"},
		{"can: {write: sets}", "can: {write: sets, types: [A, B]}", "3:31", `"B" is no record type`},
		{"can: {write: sets}", "can: {write: sets, attributes: {relay: {relay: \"on\"}}}", "3:48", "none of its values"},
		{"can: {write: sets}", "can: {write: zone}", "6:8", "must not be replaced without a condition"},
		{"GET /zones", "FETCH /zones", "4:18", "cannot be a request"},
		{"GET /zones", "GET https://elsewhere.test/zones", "4:18", "cannot be a request"},
		{"GET /zones", "GET //elsewhere.test/zones", "4:18", "cannot be a request"},
		{"GET /zones", "\"GET /zones{\"", "4:18", "no URI template"},
		{"/z/{id}\", each", "/z/{ident}\", each", "5:17", "no value for {ident}. Here it can use: cursor, id, zone, fqdn"},
		{`each: ".[]"}` + "\nread", `each: ".[", next: .n}` + "\nread", "4:39", "no jq expression"},
		{"body: .", "body: nosuch(.)", "6:40", "no jq expression"},
		{"body: .", "body: $secret", "6:40", "no jq expression"},
		{"body: .}", "body: ., receipt: .r}", "1:1", "receipt (in write) and poll belong together"},
		{"\nwrite:", "\ncreate: {request: POST /z, one: .}\nwrite:", "1:1", "create and remove belong together"},
		{"\nwrite:", "\nlook: {request: GET /v, mark: .v}\nwrite:", "5:7", "read must return it too"},
		{"write: {request: \"POST /z/{id}\", body: .}", "write: {create: {request: POST /z, body: .}, update: {request: POST /z, body: .}, delete: {request: POST /z}}", "6:8", "does one change at a time"},
		{"\nwrite:", "\nlimits: {rate: fast}\nwrite:", "6:16", "60 per minute"},
		{"\nwrite:", "\nerrors: {kinds: {a: b}}\nwrite:", "6:21", `"b" is no kind of failure`},
		{"\nwrite:", "\nabout: x\nwrite:", "6:1", `"about" is called "description" now`},
		{"\nwrite:", "\nwrote: x\nwrite:", "6:1", `"wrote" is not known in the profile`},
		{"can: {", "can: {types: [TXT], ", "3:14", "the types lack A"},
		{"can: {", "can: {targets: sideways, ", "3:16", "absolute, zone, record"},
		{"\nwrite:", "\nsoa: {fields: [serial], read: {request: GET /s, one: .}, write: {request: PUT /s, body: .soa}}\nwrite:", "6:16", `"serial" is no field of an SOA record that can be set`},
		{"\nwrite:", "\nsoa: {fields: [rname], read: {request: GET /s, one: .}}\nwrite:", "6:6", `"write" is missing in soa`},
		{"\nwrite:", "\nsoa: {fields: [], read: {request: GET /s, one: .}, write: {request: PUT /s, body: .soa}}\nwrite:", "6:15", "fields lists which can be set"},
		{"profile: small", "profile: [small", "1:1", "this is not YAML"},
	} {
		t.Run(c.to, func(t *testing.T) {
			require.Contains(t, least, c.from)
			p, faults := profile.Load("small.profile.yaml", []byte(strings.Replace(least, c.from, c.to, 1)))
			assert.Nil(t, p)
			var all []string
			for _, f := range faults {
				all = append(all, f.Error())
			}
			text := strings.Join(all, "\n")
			assert.Contains(t, text, c.says)
			found := false
			for _, line := range all {
				found = found || strings.Contains(line, c.says) && strings.HasPrefix(line, "small.profile.yaml:"+c.place+":")
			}
			assert.True(t, found, "at %s: %s", c.place, text)
		})
	}
	p, faults := profile.Load("small", []byte(least))
	require.Empty(t, faults)
	assert.True(t, p.Caps.FixedZones, "without create, zones are made elsewhere")
	_, faults = profile.Load("large", []byte(strings.Repeat("#", 300<<10)))
	assert.Len(t, faults, 1)
	_, faults = profile.Load("empty", nil)
	assert.Len(t, faults, 1)
}

// A fault in a block of several lines is told at its line.
func TestFaultInABlock(t *testing.T) {
	text := strings.Replace(least, "body: .}", "type: x}", 1) + "rights:\n  request: GET /r\n  each: |\n    .a\n    | .b ]\n"
	_, faults := profile.Load("small", []byte(text))
	require.Len(t, faults, 1)
	assert.Equal(t, "11:10", fmt.Sprintf("%d:%d", faults[0].Line, faults[0].Column))
}

func TestPracticeProfilesLoad(t *testing.T) {
	all, faulty, err := profile.LoadAll(profiles.Files)
	require.NoError(t, err)
	require.Empty(t, faulty)
	require.Len(t, all, 7)
	assert.Equal(t, change.ByRecord, all["curlew"].Caps.Granularity)
	assert.True(t, all["curlew"].Caps.Delayed)
	assert.True(t, all["plover"].Caps.Guarded && all["plover"].Caps.Marks)
	assert.True(t, all["heron"].Caps.Atomic)
}
