package rules_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/zonefile"
)

// millionText writes a zone of n records of the kinds that zones have; changed puts another address into one of a hundred.
func millionText(n int, changed bool) string {
	var b strings.Builder
	b.WriteString("$TTL 3600\n@ IN SOA ns1.big.example. admin.big.example. 1 7200 900 1209600 300\n@ IN NS ns1\n@ IN NS ns2\nns1 IN A 192.0.2.1\nns2 IN A 192.0.2.2\n")
	for i := 5; i < n; i++ {
		host := (i * 7919) % n
		last := i % 250
		if changed && i%100 == 0 {
			last = 251
		}
		switch i % 10 {
		case 0, 1, 2, 3, 4, 5:
			fmt.Fprintf(&b, "h%07d IN A 198.51.100.%d\n", host, last)
		case 6:
			fmt.Fprintf(&b, "h%07d 300 IN AAAA 2001:db8::%x:%x\n", host, i>>16, i&0xffff)
		case 7:
			fmt.Fprintf(&b, "h%07d IN CNAME ns1\n", host)
		case 8:
			fmt.Fprintf(&b, "h%07d IN MX 10 mx%d.post.example.\n", host, last)
		default:
			fmt.Fprintf(&b, "h%07d IN TXT \"v=spf1 ip4:198.51.100.%d -all\"\n", host, last)
		}
	}
	return b.String()
}

// most is the most memory that the process has held so far, in MB.
func most() (mb float64) {
	text, _ := os.ReadFile("/proc/self/status")
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			fmt.Sscan(rest, &mb)
		}
	}
	return mb / 1024
}

// BenchmarkMillionJudged reads a zone file of a million records, applies all rules, and compares it with what is live, which
// is known already; beside it a well-known checker merely reads the file.
func BenchmarkMillionJudged(b *testing.B) {
	origin := dnsname.MustParse("big.example")
	before, faults := zonefile.Read(millionText(1_000_000, false), zonefile.Options{Origin: origin})
	if len(faults) > 0 {
		b.Fatal(faults[0])
	}
	live := before.Contents()
	before = zonefile.Zone{}
	path := filepath.Join(b.TempDir(), "big.zone")
	if err := os.WriteFile(path, []byte(millionText(1_000_000, true)), 0o600); err != nil {
		b.Fatal(err)
	}
	runtime.GC()
	for range b.N {
		start := time.Now()
		text, err := os.ReadFile(path)
		if err != nil {
			b.Fatal(err)
		}
		read, faults := zonefile.Read(string(text), zonefile.Options{Origin: origin})
		if len(faults) > 0 {
			b.Fatal(faults[0])
		}
		parsed := time.Now()
		wanted := record.NewContents(append([]record.Record(nil), read.Records...))
		sorted := time.Now()
		found := rules.Check(rules.Zone{Name: origin, Contents: wanted, Written: read.Records})
		judged := time.Now()
		r := diff.Compare(wanted, live, live, diff.LeaveDrift)
		end := time.Now()
		if len(r.Steps) == 0 || len(rules.Errors(found)) > 0 {
			b.Fatal(len(r.Steps), rules.Errors(found)[:1])
		}
		b.ReportMetric(parsed.Sub(start).Seconds(), "read-s")
		b.ReportMetric(sorted.Sub(parsed).Seconds(), "sort-s")
		b.ReportMetric(judged.Sub(sorted).Seconds(), "rules-s")
		b.ReportMetric(end.Sub(judged).Seconds(), "compare-s")
		b.ReportMetric(end.Sub(start).Seconds(), "all-s")
		b.ReportMetric(most(), "most-MB")
		start = time.Now()
		if out, err := exec.Command("named-checkzone", "-i", "local", "big.example", path).CombinedOutput(); err != nil {
			b.Fatalf("%v: %.300s", err, out)
		}
		b.ReportMetric(time.Since(start).Seconds(), "named-checkzone-s")
	}
}
