package definition

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

const good = `# the public site
zones:
  saltmarsh-ferries.example:
    description: "Public site: the ferry line"
    providers: [heron-main]
    registrar: gannet-main
    ttl: 1h
    records: |
      @        A     192.0.2.40
      www      CNAME @
               ; a comment
      web  5m  A     192.0.2.41
  tides.example:
    records: |
      gauge TXT "x"
`

// files makes files of names and texts.
func files(pairs ...string) (list []File) {
	for i := 0; i < len(pairs); i += 2 {
		list = append(list, File{Name: pairs[i], Text: pairs[i+1]})
	}
	return list
}

func TestRead(t *testing.T) {
	d, faults := Read(files("site.beacon.yaml", good))
	require.Empty(t, faults)
	zones := d.Zones
	require.Len(t, zones, 2)
	z := zones[0]
	assert.Equal(t, "saltmarsh-ferries.example.", z.Name.String())
	assert.Equal(t, []string{"heron-main"}, z.Providers)
	assert.Equal(t, "gannet-main", z.Registrar)
	assert.Equal(t, 3, z.Contents.Len())
	web := record.Key{Name: dnsname.MustParse("web.saltmarsh-ferries.example"), Type: record.A}
	assert.EqualValues(t, 300, z.Contents.Get(web).TTL)
	assert.EqualValues(t, 3600, zones[1].Contents.Records()[0].TTL)
}

func TestReadAfterWriteIsIdentity(t *testing.T) {
	for _, text := range []string{good, kitted} {
		d, faults := Read(files("", text))
		require.Empty(t, faults)
		written := Write(d.Zones, d.Kits)
		back, faults := Read(files("", written))
		require.Empty(t, faults, written)
		require.Len(t, back.Zones, len(d.Zones))
		for i, z := range d.Zones {
			got := back.Zones[i]
			assert.True(t, z.Contents.Equal(got.Contents))
			assert.Equal(t, z.Providers, got.Providers)
			assert.Equal(t, z.Description, got.Description)
			assert.Equal(t, z.Ignore, got.Ignore)
			assert.Equal(t, z.FromKits(), got.FromKits())
		}
		assert.Equal(t, written, Write(back.Zones, back.Kits), "a fixed point")
	}
}

func TestFaults(t *testing.T) {
	zone := "zones:\n  a.example:\n"
	for _, c := range []struct{ name, text, place, says string }{
		{"empty", "", "1:1", "empty"},
		{"no mapping", "- x", "1:1", "key: value"},
		{"a bracket", "zones:\n  a: [", "2:6", "this [ is not closed"},
		{"the wrong bracket", zone + "    providers: [heron}\n    records: |\n      x A 192.0.2.1", "3:16", "add ]"},
		{"a quote", zone + "    description: \"it's\n    records: |\n      x A 192.0.2.1", "3:18", "is not closed"},
		{"indentation", zone + "    ttl: 60\n   records: |\n      x A 192.0.2.1", "2:1", "not YAML"},
		{"unknown key", "zone:\n  a: 1", "1:1", `write "zones"`},
		{"misspelt key", zone + "    recods: |\n      x A 192.0.2.1\n    records: |\n      x A 192.0.2.1", "3:5", `write "records"`},
		{"a key by its former name", zone + "    at: [heron]\n    records: |\n      x A 192.0.2.1", "3:5", `write "providers"`},
		{"twice", zone + "    ttl: 1\n    ttl: 2\n    records: |\n      x A 192.0.2.1", "4:5", "twice"},
		{"name", "zones:\n  a..example:\n    ttl: 1", "2:3", "empty label"},
		{"ttl", zone + "    ttl: soon\n    records: |\n      x A 192.0.2.1", "3:10", "no TTL"},
		{"no records", zone + "    ttl: 60", "2:3", "no records"},
		{"records no block", zone + "    records: x A 192.0.2.1", "3:14", "block"},
		{"alias", zone + "    description: &x y\n    registrar: *x\n    records: |\n      x A 192.0.2.1", "4:16", "aliases"},
		{"account", zone + "    providers: [Heron Main]\n    records: |\n      x A 192.0.2.1", "3:17", "account name"},
		{"record", zone + "    records: |\n\n      # www A 192.0.2.1\n      www A https://x/", "5:9", "no record type"},
		{"record data", zone + "    records: |\n      ok A 192.0.2.1\n      www A https://x/", "5:13", "web address"},
		{"collision", zone + "    records: |\n      www A 192.0.2.1\n      www CNAME b", "5:7", "no CNAME may be beside"},
		{"indented first line", zone + "    records: |2\n       A 192.0.2.1", "4:8", "no owner"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, faults := Read(files("f.beacon.yaml", c.text))
			require.NotEmpty(t, faults)
			agree(t, files("f.beacon.yaml", c.text))
			f := faults[0]
			assert.Equal(t, c.place, fmt.Sprintf("%d:%d", f.Line, f.Column), f.Error())
			assert.Contains(t, f.Error(), c.says)
			assert.True(t, strings.HasPrefix(f.Error(), "f.beacon.yaml:"))
		})
	}
}

func TestAllFaultsOfAllFiles(t *testing.T) {
	_, faults := Read(files(
		"b.beacon.yaml", "zones:\n  a.example:\n    ttl: x\n    records: |\n      w A 1\n      v A 2\n",
		"a.beacon.yaml", "zones:\n  a.example:\n    records: |\n      w A 192.0.2.1\n",
	))
	var got []string
	for _, f := range faults {
		got = append(got, fmt.Sprintf("%s:%d", f.File, f.Line))
	}
	assert.Equal(t, []string{"a.beacon.yaml:2", "b.beacon.yaml:3", "b.beacon.yaml:5", "b.beacon.yaml:6"}, got)
}

// An entry that is not YAML does not hide the faults of the others.
func TestSyntaxDoesNotHideTheRest(t *testing.T) {
	text := "values:\n  pier: 192.0.2.7\nzones:\n  a.example:\n    providers: [heron-main\n    records: |\n      www A 192.0.2.1\n" +
		"  b.example:\n    recods: x\n    records: |\n      www A 192.0.2.300\n      pier A ${pier}\n  c.example:\n    ttl: {a: 1\n"
	_, faults := Read(files("f", text))
	var got []string
	for _, f := range faults {
		got = append(got, fmt.Sprintf("%d:%d", f.Line, f.Column))
	}
	assert.Equal(t, []string{"5:16", "9:5", "11:13", "14:10"}, got)
	agree(t, files("f", text))
}

func FuzzRead(f *testing.F) {
	f.Add(good)
	f.Add(kitted)
	f.Add("zones:\n  a.example:\n    providers: x\n    records: |\n")
	f.Fuzz(func(t *testing.T, text string) {
		agree(t, files("f", text))
		d, faults := Read(files("f", text))
		if len(faults) > 0 || len(d.Zones) == 0 {
			return
		}
		written := Write(d.Zones, d.Kits)
		back, faults := Read(files("f", written))
		if len(faults) > 0 {
			t.Fatalf("%s\n%v", written, faults)
		}
		for i, z := range d.Zones {
			if !z.Contents.Equal(back.Zones[i].Contents) {
				t.Fatalf("%s\n%v\n%v", written, z.Contents, back.Zones[i].Contents)
			}
		}
	})
}
