package peerstest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// Many starts an unsigned world with a registry of so many domains, and two servers that have all of them.
func Many(t testing.TB, n int) (l *Lab, domains []string) {
	t.Helper()
	l = New(t)
	servers := []string{"ns1.hosts.example.", "ns2.hosts.example."}
	zone := strings.Replace(Zone("@", 7, servers, "@ A 192.0.2.1"), "$ORIGIN @\n", "", 1)
	domains = make([]string, n)
	for i := range n {
		name := fmt.Sprintf("pier-%05d.example.", i)
		domains[i] = name
		l.Delegate(name+" NS "+servers[0], name+" NS "+servers[1])
		l.ServeSame(East, name, zone)
	}
	l.StartPlain()
	return l, domains
}

var rateOf = regexp.MustCompile(`Queries per second:\s+([0-9.]+)`)

// Yardstick has dnsperf ask for SOA and NS of domains at the first server, for two seconds, and gives its queries in a second.
func (l *Lab) Yardstick(domains []string) (rate float64) {
	l.t.Helper()
	var b strings.Builder
	for _, n := range domains {
		fmt.Fprintf(&b, "%s SOA\n%s NS\n", n, n)
	}
	file := filepath.Join(l.t.TempDir(), "questions")
	check(l.t, os.WriteFile(file, []byte(b.String()), 0o600))
	out, err := exec.Command("dnsperf", "-s", l.IP(East), "-d", file, "-l", "2", "-c", "8", "-q", "400").CombinedOutput()
	if err != nil {
		l.t.Fatalf("dnsperf: %v\n%s", err, out)
	}
	found := rateOf.FindSubmatch(out)
	if found == nil {
		l.t.Fatalf("dnsperf told no rate:\n%s", out)
	}
	_, err = fmt.Sscan(string(found[1]), &rate)
	check(l.t, err)
	return rate
}

// Used is how much of the processors this process has used, and how much memory at most, in MB.
func Used(t testing.TB) (cpu time.Duration, peak int64) {
	t.Helper()
	var u syscall.Rusage
	check(t, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()), u.Maxrss >> 10
}
