package zonefile

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// from returns an Include that hands out these files.
func from(files map[string]string) func(string, string) (Included, error) {
	return func(name, _ string) (Included, error) {
		text, ok := files[name]
		if !ok {
			return Included{}, errors.New(name + " is not there")
		}
		return Included{name, text}, nil
	}
}

func TestInclude(t *testing.T) {
	files := map[string]string{
		"mail":  "@ MX 10 mx.post.example.\n  TXT \"x\"\n$ORIGIN deeper\n$TTL 9\n@ A 192.0.2.2\n",
		"loop":  "$INCLUDE loop2\n",
		"loop2": "$INCLUDE loop\n",
		"bad":   "\na A 192.0.2.300\n",
	}
	z, faults := Read("$TTL 60\nwww A 192.0.2.1\n$INCLUDE mail pier\n AAAA 2001:db8::1\n", Options{Origin: origin, File: "top", Include: from(files)})
	require.Empty(t, faults)
	assert.Equal(t, []string{
		"www.saltmarsh-ferries.example. 60 IN A 192.0.2.1",
		"pier.saltmarsh-ferries.example. 60 IN MX 10 mx.post.example.",
		`pier.saltmarsh-ferries.example. 60 IN TXT "x"`,
		"deeper.pier.saltmarsh-ferries.example. 9 IN A 192.0.2.2",
		"www.saltmarsh-ferries.example. 60 IN AAAA 2001:db8::1", // owner, origin and TTL are those from before
	}, lines(z))
	assert.Len(t, z.Places, len(z.Records))

	for text, want := range map[string]string{
		"$INCLUDE loop\n":               "loop2:1:10: loop includes itself",
		"$INCLUDE nowhere\n":            "top:1:10: nowhere is not there",
		"\n$INCLUDE bad\n":              `bad:2:5: "192.0.2.300" is no IP address`,
		"$INCLUDE mail a b\n":           "top:1:1: $INCLUDE takes a file",
		"$INCLUDE mail http://x.y/..\n": "top:1:15:",
	} {
		_, faults := Read(text, Options{Origin: origin, File: "top", TTL: 60, Include: from(files)})
		require.Len(t, faults, 1, text)
		assert.True(t, strings.HasPrefix(faults[0].Error(), want), "%s: %s", text, faults[0])
	}
	_, faults = Read("$INCLUDE x\n", Options{Origin: origin})
	assert.Contains(t, faults[0].Message, "came without its folder")
}

func TestGenerate(t *testing.T) {
	for text, want := range map[string][]string{
		"$GENERATE 1-3 b-$ A 192.0.2.$":                  {"b-1 60 A 192.0.2.1", "b-2 60 A 192.0.2.2", "b-3 60 A 192.0.2.3"},
		"$GENERATE 0-4/2 b$ 5m IN CNAME x${8,3,d}":       {"b0 300 CNAME x008", "b2 300 CNAME x010", "b4 300 CNAME x012"},
		"$GENERATE 10-10 ${0,4,x} A 192.0.2.${-3}":       {"000a 60 A 192.0.2.7"},
		"$GENERATE 10-10 ${0,0,X}$$${0,2,o} A 192.0.2.1": {"a\\$12 60 A 192.0.2.1"},
		`$GENERATE 1-1 a TXT "\$ $$ $"`:                  {`a 60 TXT "$" "$" "1"`}, // the quotes hold the data together
		`$GENERATE 1-1 a TXT "\"berth $\""`:              {`a 60 TXT "berth 1"`},
		`$GENERATE 1-1 a MX "10 b$"`:                     {"a 60 MX 10 b1"},
		`$GENERATE 291-291 ${0,7,n} PTR a`:               {"3.2.1.0 60 PTR a"},
	} {
		z, faults := Read(text+"\n", Options{Origin: origin, TTL: 60})
		require.Empty(t, faults, text)
		var got []string
		for _, r := range z.Records {
			data := strings.TrimSuffix(string(r.Data), ".saltmarsh-ferries.example.")
			got = append(got, r.Name.Relative(origin)+" "+strings.Join(strings.Fields(r.String())[1:2], "")+" "+r.Type.String()+" "+data)
		}
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]string{
		"$GENERATE 1-1000000000 a$ A 192.0.2.1": "1:11: 1000000000 records would be made",
		"$GENERATE 5-1 a$ A 192.0.2.1":          `1:11: "5-1" is no range`,
		"$GENERATE 1-5/0 a$ A 192.0.2.1":        "is no range",
		"$GENERATE 1-2 a$":                      "takes a range",
		"$GENERATE 1-300 a$ A 192.0.2.$":        `"192.0.2.256" is no IP address`, // once, not 45 times
		"$GENERATE 1-2 a MX 10 b$":              "as one word",
		`$GENERATE "1-2" a A 192.0.2.$`:         "is no range",
		"$GENERATE 1-2 a${x} A 192.0.2.1":       "is not known",
		"$GENERATE 1-2 a${1 A 192.0.2.1":        "never closes",
		"$GENERATE 1-2 a${-9} A 192.0.2.1":      "less than nothing",
		"$GENERATE 1-2 a${0,1,q} A 192.0.2.1":   "is not known",
	} {
		_, faults := Read(text+"\n", Options{Origin: origin, TTL: 60})
		require.Len(t, faults, 1, text)
		assert.Contains(t, faults[0].Error(), want, text)
	}
	_, faults := Read(strings.Repeat("$GENERATE 1-100000 * A 192.0.2.1\n", 2), Options{Origin: origin, TTL: 60})
	require.Len(t, faults, 1, "the bound is for all of them together")
	assert.Equal(t, 2, faults[0].Line)
}

func TestEndlessRecordIsRefused(t *testing.T) {
	for _, text := range []string{strings.Repeat("\x00", 8<<20), "a TXT (" + strings.Repeat("x ", 4<<20), `a TXT "` + strings.Repeat("x", 8<<20)} {
		_, faults := Read(text+"\nb 60 A 192.0.2.1\n", Options{Origin: origin, TTL: 60})
		require.NotEmpty(t, faults)
		assert.LessOrEqual(t, len(faults), 20)
		for _, f := range faults {
			assert.Less(t, len(f.Message), 2000)
		}
	}
}
