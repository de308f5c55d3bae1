package paste

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

var zone = dnsname.MustParse("saltmarsh-ferries.example")

// shown prints rows as a user would check them: records relative to the zone, notes behind "#", problems behind "!".
func shown(rows []Row) string {
	var lines []string
	for _, row := range rows {
		for _, r := range row.Records {
			line := strings.Join([]string{r.Name.Relative(zone), itoa(r.TTL), r.Type.String(), string(r.Data)}, " ")
			if row.LeftOut != "" {
				line = "(" + line + ")"
			}
			if len(row.Notes) > 0 {
				line += " #" + itoa(uint32(len(row.Notes)))
			}
			lines = append(lines, line)
		}
		if row.Problem != "" {
			lines = append(lines, "! "+itoa(uint32(row.Line)))
		}
	}
	return strings.Join(lines, "\n")
}

func itoa(n uint32) string { return strconv.FormatUint(uint64(n), 10) }

func TestRead(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"zone-file lines", "www 300 IN A 192.0.2.1\n@ MX 10 mail\n", "www 300 A 192.0.2.1\n@ 3600 MX 10 mail.saltmarsh-ferries.example."},
		{"a whole zone file", "$ORIGIN saltmarsh-ferries.example.\n$TTL 60\n@ SOA n.x.test. h.x.test. 1 2 3 4 5\n@ NS n.x.test.\nwww A 192.0.2.1\n",
			"(@ 60 SOA n.x.test. h.x.test. 1 2 3 4 5)\n(@ 60 NS n.x.test.)\nwww 60 A 192.0.2.1"},
		{"full names without their final dot", "www.saltmarsh-ferries.example 300 A 192.0.2.1\nshop CNAME www.saltmarsh-ferries.example\n",
			"www 300 A 192.0.2.1 #1\nshop 3600 CNAME www.saltmarsh-ferries.example. #1"},
		{"a table with a heading", "Type\tHost\tValue\tTTL\nA\t@\t192.0.2.1\t5 minutes\nCNAME\twww\tsaltmarsh-ferries.example\t1 hour\nTXT\t@\tv=spf1 mx -all\tAuto\n",
			"@ 300 A 192.0.2.1\nwww 3600 CNAME saltmarsh-ferries.example.\n@ 3600 TXT \"v=spf1 mx -all\" #1"},
		{"a table with priorities", "Name | Type | Priority | Content\n-----|------|------|---\nsaltmarsh-ferries.example | MX | 10 | mx1.post.example\n", "@ 3600 MX 10 mx1.post.example."},
		{"a table without a heading", "A   www   192.0.2.1   300\nMX  @  mx1.post.example  10\n", "www 300 A 192.0.2.1\n@ 3600 MX 10 mx1.post.example."},
		{"services in a table", "Type\tName\tPriority\tWeight\tPort\tTarget\nSRV\t_tides._tcp\t10\t5\t7447\tgauge.saltmarsh-ferries.example\n",
			"_tides._tcp 3600 SRV 10 5 7447 gauge.saltmarsh-ferries.example."},
		{"web addresses", "CNAME\tbook\thttps://booking.harbour.example/start\nA\tcam\thttp://192.0.2.7:8080/\n",
			"book 3600 CNAME booking.harbour.example. #1\ncam 3600 A 192.0.2.7 #1"},
		{"curly quotes", "TXT\t@\t“v=spf1 mx -all”\n", "@ 3600 TXT \"v=spf1 mx -all\" #1"},
		{"a key broken over lines", "TXT\ttide._domainkey\tv=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7\nhcvPapiMlrwIaaPcHURo=\n",
			"tide._domainkey 3600 TXT \"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\" #1"},
		{"comma separated", "www,A,192.0.2.1\n", "www 3600 A 192.0.2.1"},
		{"what is no record", "Dear admin,\nplease add these:\nwww A 192.0.2.1\nwww A https://x/\n", "! 1\n! 2\nwww 3600 A 192.0.2.1\n! 4"},
		{"names of other zones", "www.harbour.example. A 192.0.2.1\n", "(www.harbour.example. 3600 A 192.0.2.1)"},
		{"names in other scripts", "A\tfähre\t192.0.2.1\n", "xn--fhre-loa 3600 A 192.0.2.1"},
		{"zero-width characters", "www\u200b\tA\t192.0.2.1\n", "www 3600 A 192.0.2.1 #1"},
		{"nothing", "\n\n; comment\n", ""},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, shown(Read(c.text, zone, 3600))) })
	}
}

func TestTooMuch(t *testing.T) {
	rows := Read(strings.Repeat("x", mostText+1), zone, 60)
	require.Len(t, rows, 1)
	assert.NotEmpty(t, rows[0].Problem)
	assert.LessOrEqual(t, len(Read(strings.Repeat("x y z\n", mostRows+10), zone, 60)), mostRows+1)
}

// Whatever is pasted, what is made of it can be written into a zone file and read back.
func FuzzRead(f *testing.F) {
	for _, text := range []string{"www 300 IN A 192.0.2.1", "Type\tHost\tValue\nA\t@\t192.0.2.1", "TXT\t@\t“v=spf1”\nmore-of-the-key==", "MX @ a.b 10", "SRV\tx\t1 2 3 y"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, row := range Read(text, zone, 3600) {
			for _, r := range row.Records {
				z, faults := zonefile.Read(r.String(), zonefile.Options{Origin: zone})
				if len(faults) > 0 || len(z.Records) != 1 || z.Records[0] != r {
					t.Fatalf("%q: %s: %v", text, r, faults)
				}
			}
		}
	})
}

// A string that no record can hold is split, and that is said; the text stays the same.
func TestLongStringsAreSplit(t *testing.T) {
	text := strings.Repeat("v=DKIM1; ", 40)
	rows := Read(`key._domainkey 300 IN TXT "`+text+`\255"`+"\nwww 300 IN A 192.0.2.1\n", zone, 60)
	require.Len(t, rows, 2)
	require.Len(t, rows[0].Records, 1)
	assert.Equal(t, text+"\xff", rows[0].Records[0].Data.Says(record.TXT))
	assert.Len(t, rows[0].Records[0].Data.Texts(), 2)
	assert.Contains(t, rows[0].Notes, "The text has more than 255 octets in one string; it was split into several.")
}
