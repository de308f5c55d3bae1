package diff

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// zoneText writes n records, one in every hundred with other data when changed.
func zoneText(n int, changed bool) []byte {
	text := make([]byte, 0, n*48)
	for i := range n {
		last := i % 250
		if changed && i%100 == 0 {
			last = 251
		}
		text = fmt.Appendf(text, "h%07d.big.example. 3600 IN A 192.0.2.%d\n", (i*7919)%n, last)
	}
	return text
}

// BenchmarkMillion compares a million records with a million of which 1 % differ, and does the same with
// sort and comm on the same data.
func BenchmarkMillion(b *testing.B) {
	const n = 1_000_000
	before, after := zoneText(n, false), zoneText(n, true)
	dir := b.TempDir()
	for range b.N {
		start := time.Now()
		old, faults := zonefile.Read(string(before), zonefile.Options{Origin: dnsname.Root})
		neu, more := zonefile.Read(string(after), zonefile.Options{Origin: dnsname.Root})
		if len(faults)+len(more) > 0 {
			b.Fatal(faults, more)
		}
		parsed := time.Now()
		live, wanted := record.NewContents(old.Records), record.NewContents(neu.Records)
		sorted := time.Now()
		r := Compare(wanted, live, live, LeaveDrift)
		compared := time.Now()
		if len(r.Steps) != n/100 {
			b.Fatalf("%d steps", len(r.Steps))
		}
		commTime, lines := sortAndComm(b, dir, before, after)
		b.ReportMetric(parsed.Sub(start).Seconds(), "parse-2M-s")
		b.ReportMetric(sorted.Sub(parsed).Seconds(), "sort-2M-s")
		b.ReportMetric(compared.Sub(sorted).Seconds(), "compare-s")
		b.ReportMetric(commTime.Seconds(), "sort+comm-s")
		b.ReportMetric(float64(lines), "comm-lines")
	}
}

func sortAndComm(b *testing.B, dir string, before, after []byte) (time.Duration, int) {
	one, two := filepath.Join(dir, "before"), filepath.Join(dir, "after")
	if err := os.WriteFile(one, before, 0o600); err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(two, after, 0o600); err != nil {
		b.Fatal(err)
	}
	start := time.Now()
	script := `export LC_ALL=C; sort "$1" >"$1.s" && sort "$2" >"$2.s" && comm -3 "$1.s" "$2.s" | wc -l`
	out, err := exec.Command("sh", "-c", script, "sh", one, two).Output()
	took := time.Since(start)
	if err != nil {
		b.Fatal(err)
	}
	lines := 0
	fmt.Sscan(string(out), &lines)
	return took, lines
}
