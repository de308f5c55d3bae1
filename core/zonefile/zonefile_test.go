package zonefile

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/record"
)

var origin = dnsname.MustParse("saltmarsh-ferries.example")

func lines(z Zone) (all []string) {
	for _, r := range z.Records {
		all = append(all, r.String())
	}
	return all
}

func TestReadForms(t *testing.T) {
	z, faults := Read(`; exported from somewhere
$TTL 1h
@	IN SOA ns1.plover.test. host.plover.test. ( 7 ; serial
		3600 600
		1209600 300 )
	NS	ns1.plover.test.
www 5m IN A 192.0.2.40
	IN 10m AAAA 2001:db8::40 ; class before TTL
$ORIGIN pier.saltmarsh-ferries.example.
cam CNAME www.saltmarsh-ferries.example.
txt TXT ( "a;b"
  "c d" )
`, Options{Origin: origin})
	require.Empty(t, faults)
	assert.Equal(t, []string{
		"saltmarsh-ferries.example. 3600 IN SOA ns1.plover.test. host.plover.test. 7 3600 600 1209600 300",
		"saltmarsh-ferries.example. 3600 IN NS ns1.plover.test.",
		"www.saltmarsh-ferries.example. 300 IN A 192.0.2.40",
		"www.saltmarsh-ferries.example. 600 IN AAAA 2001:db8::40",
		"cam.pier.saltmarsh-ferries.example. 3600 IN CNAME www.saltmarsh-ferries.example.",
		`txt.pier.saltmarsh-ferries.example. 3600 IN TXT "a;b" "c d"`,
	}, lines(z))
	assert.Equal(t, Place{8, 2}, z.Places[3])
}

func TestTTLIsTheLastStated(t *testing.T) {
	z, faults := Read("a 60 A 192.0.2.1\nb A 192.0.2.2\n", Options{Origin: origin})
	require.Empty(t, faults)
	assert.EqualValues(t, 60, z.Records[1].TTL)
}

func TestEveryFaultWithItsPlace(t *testing.T) {
	text := strings.Join([]string{
		"  A 192.0.2.1",          // 1: no owner
		"a A https://x.example/", // 2: web address
		"b 300 NOPE x",           // 3: type
		"c..d 300 A 192.0.2.1",   // 4: owner
		"e 300 TXT \"open",       // 5: quote
		"f 300",                  // 6: no type
		"$INCLUDE /etc/passwd",   // 7: directive
		"$TTL soon",              // 8
		"g 300 CH TXT x",         // 9: class
		"h 300 A",                // 10: no data
		"i 300 A 192.0.2.1 )",    // 11
		"j 300 TXT ( \"a\"",      // 12: open to the end
		"  ; still inside",       // 13
	}, "\n")
	_, faults := Read(text, Options{Origin: origin, File: "broken.zone"})
	var got []string
	for _, f := range faults {
		got = append(got, fmt.Sprintf("%d:%d", f.Line, f.Column))
		assert.Equal(t, "broken.zone", f.File)
		assert.NotEmpty(t, f.Message)
	}
	assert.Equal(t, []string{"1:3", "1:3", "2:3", "2:5", "3:7", "4:1", "5:7", "5:11", "6:1", "7:1", "8:6", "9:7", "10:7", "11:19", "12:11"}, got)
}

// A record file is no zone: each thing that is missing, or there twice, is a fault.
func TestWhole(t *testing.T) {
	soa, ns := "@ 60 SOA a.test. b.test. 1 2 3 4 5\n", "@ 60 NS a.test.\n"
	for text, want := range map[string][]string{
		soa + ns:                  nil,
		"":                        {"1:1: the file has no records"},
		"; nothing\n$TTL 60\n":    {"1:1: the file has no records"},
		ns:                        {"1:1: the zone has no SOA record"},
		soa + "b 60 NS a.test.\n": {"1:1: the zone has no NS records at its apex"},
		soa + ns + soa:            {"3:1: the zone has a second SOA record"},
		soa + ns + "b SOA a.test. b.test. 1 2 3 4 5\n": {"3:1: the SOA record of b.saltmarsh-ferries.example is in the zone saltmarsh-ferries.example"},
	} {
		z, faults := Read(text, Options{Origin: origin})
		require.Empty(t, faults, text)
		var got []string
		for _, f := range z.Whole(origin, "") {
			got = append(got, fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.Message))
		}
		assert.Equal(t, want, got, text)
	}
}

func TestClasses(t *testing.T) {
	for line, wrong := range map[string]bool{"a IN 60 A 192.0.2.1": false, "a 60 CLASS1 A 192.0.2.1": false, "a class1 60 TYPE1 192.0.2.1": false,
		"a IN IN 60 A 192.0.2.1": true, "a CLASS1 IN A 192.0.2.1": true, "a CLASS3 A 192.0.2.1": true, "a HS A 192.0.2.1": true, `"a" A 192.0.2.1`: true} {
		z, faults := Read(line+"\n", Options{Origin: origin, TTL: 60})
		assert.Equal(t, wrong, len(faults) == 1, line)
		assert.Equal(t, wrong, len(z.Records) == 0, line)
	}
}

func TestPlacesAreShifted(t *testing.T) {
	_, faults := Read("www A 192.0.2.999\n", Options{Origin: origin, TTL: 60, At: Place{12, 7}})
	require.Len(t, faults, 1)
	assert.Equal(t, 12, faults[0].Line)
	assert.Equal(t, 13, faults[0].Column)
	assert.Contains(t, faults[0].Error(), "12:13: ")
}

func TestTooManyFaultsEnd(t *testing.T) {
	_, faults := Read(strings.Repeat("x\n", 100_000), Options{Origin: origin})
	assert.LessOrEqual(t, len(faults), maxFaults+2)
}

func TestParseTTL(t *testing.T) {
	for text, want := range map[string]uint32{"0": 0, "3600": 3600, "1h30m": 5400, "1W": 604800, "2d": 172800} {
		got, err := ParseTTL(text)
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "h", "1x", "5000w", "99999999999", "-1", "1h-"} {
		_, err := ParseTTL(text)
		assert.Error(t, err, text)
	}
}

func TestReadAfterWriteIsIdentity(t *testing.T) {
	names := []string{"@", "www", "*.pier", `odd\.label`, "a.b.c", "other.test."}
	data := map[record.Type][]record.Data{
		record.A: {"192.0.2.1", "192.0.2.2"}, record.TXT: {`"a b" "c;\"d"`, `"\000\255"`},
		record.MX: {"10 mx.example."}, record.CAA: {`0 issue "ca.example"`},
	}
	rapid.Check(t, func(t *rapid.T) {
		var sets []record.Set
		for range rapid.IntRange(0, 8).Draw(t, "sets") {
			name, err := dnsname.ParseRelative(rapid.SampledFrom(names).Draw(t, "name"), origin)
			if err != nil {
				t.Fatal(err)
			}
			typ := rapid.SampledFrom([]record.Type{record.A, record.TXT, record.MX, record.CAA}).Draw(t, "type")
			chosen := rapid.SliceOfN(rapid.SampledFrom(data[typ]), 1, 2).Draw(t, "data")
			sets = append(sets, record.NewSet(name, typ, rapid.Uint32Range(0, 1000).Draw(t, "ttl"), chosen...))
		}
		c := record.ContentsOf(sets...)
		text := Text(origin, c)
		z, faults := Read(text, Options{Origin: dnsname.Root})
		if len(faults) > 0 || !z.Contents().Equal(c) {
			t.Fatalf("%s\ngave %v, %v", text, faults, lines(z))
		}
		if again := Text(origin, z.Contents()); again != text {
			t.Fatalf("written again:\n%s\nbefore:\n%s", again, text)
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add("@ 60 A 192.0.2.1\n\tTXT \"x\" ; c\n$ORIGIN b\n( a )")
	f.Add("$TTL 1h\n*.x MX 10 y\n")
	f.Fuzz(func(t *testing.T, text string) {
		z, faults := Read(text, Options{Origin: origin})
		if len(z.Records) != len(z.Places) {
			t.Fatal("places and records differ in number")
		}
		if len(faults) > 0 {
			return
		}
		c := z.Contents()
		back, faults := Read(Text(origin, c), Options{Origin: dnsname.Root})
		if len(faults) > 0 || !back.Contents().Equal(c) {
			t.Fatalf("%q: %v", Text(origin, c), faults)
		}
	})
}
