package paste

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// What is printed in any of the forms that people copy is taken for the records that it was printed from.
func TestWhatIsPrintedIsRecognised(t *testing.T) {
	hosts := []string{"www", "mail", "a.b", "_sip._tcp", "@", "pier-7"}
	targets := []string{"web.harbour.example.", "mx1.post.example.", "gauge.saltmarsh-ferries.example."}
	rapid.Check(t, func(rt *rapid.T) {
		var records []record.Record
		for range rapid.IntRange(1, 8).Draw(rt, "records") {
			name, err := dnsname.ParseRelative(rapid.SampledFrom(hosts).Draw(rt, "name"), zone)
			require.NoError(rt, err)
			r := record.Record{Name: name, TTL: uint32(rapid.SampledFrom([]int{60, 300, 3600}).Draw(rt, "ttl"))}
			target := rapid.SampledFrom(targets).Draw(rt, "target")
			text := ""
			switch r.Type = rapid.SampledFrom([]record.Type{record.A, record.AAAA, record.CNAME, record.MX, record.TXT, record.SRV, record.ALIAS}).Draw(rt, "type"); r.Type {
			case record.A:
				text = "192.0.2." + rapid.StringMatching("[1-9][0-9]").Draw(rt, "octet")
			case record.AAAA:
				text = "2001:db8::" + rapid.StringMatching("[1-9a-f]{1,4}").Draw(rt, "group")
			case record.MX:
				text = "10 " + target
			case record.SRV:
				text = "1 2 443 " + target
			case record.TXT:
				text = record.Quoted(rapid.StringMatching(`[a-z]=[a-z0-9:;+/. -]{0,60}[a-z]`).Draw(rt, "text"))
			default:
				text = target
			}
			r.Data, err = record.ParseData(r.Type, text, zone)
			require.NoError(rt, err)
			records = append(records, r)
		}
		want := record.NewContents(append([]record.Record(nil), records...))
		forms := map[string]string{"zone file": zonefile.Text(zone, want)}
		var canonical, heading, plainTable strings.Builder
		require.NoError(rt, zonefile.WriteCanonical(&canonical, want))
		heading.WriteString("Type\tName\tTTL\tPriority\tWeight\tPort\tValue\n")
		for _, r := range want.Records() {
			v := record.FormOf(r.Type).Split(r.Data)
			priority := v["preference"] + v["priority"]
			value := strings.TrimSuffix(r.Data.Says(r.Type), ".")
			fmt.Fprintf(&heading, "%s\t%s\t%d\t%s\t%s\t%s\t%s\n", r.Type, r.Name.Relative(zone), r.TTL, priority, v["weight"], v["port"], value)
			fmt.Fprintf(&plainTable, "%s\t%s\t%s\t%d\n", r.Name.Relative(zone), r.Type, r.Data, r.TTL)
		}
		forms["canonical"], forms["a table with a heading"], forms["a table without one"] = canonical.String(), heading.String(), plainTable.String()
		for form, text := range forms {
			var got []record.Record
			for _, row := range Read(text, zone, 60) {
				if row.Problem != "" {
					rt.Fatalf("%s: %s\n%s", form, row.Problem, text)
				}
				got = append(got, row.Records...)
			}
			if !record.NewContents(got).Equal(want) {
				rt.Fatalf("%s:\n%s\n%v\n%v", form, text, got, want.Records())
			}
		}
	})
}
