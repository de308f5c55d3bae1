// Package nstest runs real nameservers for tests, on loopback and ports of their own, and ends them with the test.
package nstest

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"
)

// The key that the servers share with whoever tests them.
const (
	KeyName = "beacon-key"
	Secret  = "c2FsdG1hcnNoIGZlcnJpZXMgcHJhY3RpY2Uga2V5ISE="
	// Credential is the key as an account of the kind "update" has it.
	Credential = "hmac-sha256:" + KeyName + ":" + Secret
)

// Server is a running nameserver.
type Server struct {
	Host string
	Port int
	Dir  string
	cmd  *exec.Cmd
	log  *words
	over chan struct{} // closed when it has ended
}

// words keeps what a server says, which may be read meanwhile.
type words struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (w *words) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.b.Write(p)
}

func (w *words) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.b.String()
}

// Address is where it answers, as an account has it.
func (s *Server) Address() string { return fmt.Sprintf("dns://%s:%d", s.Host, s.Port) }

// HostPort is where it answers.
func (s *Server) HostPort() string { return net.JoinHostPort(s.Host, fmt.Sprint(s.Port)) }

// FreePort finds a port that nobody has, over TCP and UDP. It lies below those that the system gives to sockets which ask
// for any: until a server takes it, no connection that happens to be opened can.
func FreePort(t testing.TB) int {
	t.Helper()
	for range 200 {
		port := 10000 + rand.IntN(22000)
		at := fmt.Sprintf("127.0.0.1:%d", port)
		l, err := net.Listen("tcp", at)
		if err != nil {
			continue
		}
		u, err := net.ListenPacket("udp", at)
		l.Close()
		if err == nil {
			u.Close()
			return port
		}
	}
	t.Fatal("no free port")
	return 0
}

// emptyZone is a zone with its SOA and nameservers only.
func emptyZone(zone string) string {
	return fmt.Sprintf("$ORIGIN %s\n$TTL 3600\n@ SOA ns1.moor.test. admin.moor.test. 1 3600 600 86400 300\n@ NS ns1.moor.test.\n@ NS ns2.moor.test.\n", zone)
}

func write(t testing.TB, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

// run starts a server and waits until it answers for every zone, or at all where there are none.
func run(t testing.TB, s *Server, zones []string, program string, args ...string) *Server {
	t.Helper()
	s.log = &words{}
	s.cmd = exec.Command(program, args...)
	s.cmd.Dir, s.cmd.Stdout, s.cmd.Stderr = s.Dir, s.log, s.log
	if err := s.cmd.Start(); err != nil {
		t.Fatalf("%s cannot be started: %v", program, err)
	}
	ended := make(chan struct{})
	s.over = ended
	go func() { _ = s.cmd.Wait(); close(ended) }()
	t.Cleanup(func() {
		_ = s.cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = s.cmd.Process.Kill()
			<-ended
		}
		if t.Failed() {
			lines := strings.Split(s.log.String(), "\n")
			t.Logf("%s said at last:\n%s", program, strings.Join(lines[max(0, len(lines)-15):], "\n"))
		}
	})
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		all := true
		for _, zone := range append([]string{}, zones...) {
			if _, ok := Serial(s.HostPort(), zone); !ok {
				all = false
			}
		}
		if len(zones) == 0 {
			_, err := new(dns.Client).Dial(s.HostPort())
			all = err == nil
		}
		if all {
			return s
		}
		select {
		case <-ended:
			t.Fatalf("%s ended:\n%s", program, s.log)
		default:
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s does not answer:\n%s", program, s.log)
		}
	}
}

// Stop ends the server, and returns when its address is free.
func (s *Server) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	<-s.over
}

// Serial asks a server for a zone's serial.
func Serial(server, zone string) (uint32, bool) {
	c := dns.Client{Timeout: time.Second}
	res, _, err := c.Exchange(new(dns.Msg).SetQuestion(zone, dns.TypeSOA), server)
	if err != nil || !res.Authoritative || len(res.Answer) == 0 {
		return 0, false
	}
	soa, ok := res.Answer[0].(*dns.SOA)
	return soa.Serial, ok
}

func dir(t testing.TB, server string) string {
	t.Helper()
	d, err := os.MkdirTemp("", "beacon-"+server) // short: control sockets have little room for a path
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(d) })
	return d
}

// Named starts BIND with zones that the key may update and transfer.
func Named(t testing.TB, zones ...string) *Server {
	t.Helper()
	s := &Server{Host: "127.0.0.1", Port: FreePort(t), Dir: dir(t, "named")}
	var b strings.Builder
	namedHead(&b, s)
	for i, zone := range zones {
		file := filepath.Join(s.Dir, fmt.Sprintf("zone%d", i))
		write(t, file, emptyZone(zone))
		fmt.Fprintf(&b, "zone %q { type primary; file %q; allow-update { key %s; }; };\n", zone, file, KeyName)
	}
	write(t, filepath.Join(s.Dir, "named.conf"), b.String())
	return run(t, s, zones, "named", "-g", "-c", filepath.Join(s.Dir, "named.conf"), "-n", "2")
}

func namedHead(b *strings.Builder, s *Server) {
	fmt.Fprintf(b, `key %s { algorithm hmac-sha256; secret %q; };
controls { };
options { directory %q; pid-file %q; session-keyfile %q; listen-on port %d { %s; }; listen-on-v6 { none; }; recursion no; dnssec-validation no;
  allow-transfer { key %s; }; notify no; max-journal-size 1m; };
`, KeyName, Secret, s.Dir, filepath.Join(s.Dir, "pid"), filepath.Join(s.Dir, "session.key"), s.Port, s.Host, KeyName)
}

// NamedSecondary starts BIND as a secondary of a primary that is asked with the key.
func NamedSecondary(t testing.TB, port int, primary string, zones ...string) *Server {
	t.Helper()
	s := &Server{Host: "127.0.0.1", Port: port, Dir: dir(t, "named")}
	host, at, _ := net.SplitHostPort(primary)
	var b strings.Builder
	namedHead(&b, s)
	fmt.Fprintf(&b, "server %s { keys %s; };\n", host, KeyName)
	for i, zone := range zones {
		fmt.Fprintf(&b, "zone %q { type secondary; file %q; primaries { %s port %s key %s; }; allow-notify { %s; key %s; }; };\n", zone,
			filepath.Join(s.Dir, fmt.Sprintf("zone%d", i)), host, at, KeyName, host, KeyName)
	}
	write(t, filepath.Join(s.Dir, "named.conf"), b.String())
	return run(t, s, nil, "named", "-g", "-c", filepath.Join(s.Dir, "named.conf"), "-n", "2")
}

// Knot starts Knot DNS with zones that the key may update and transfer.
func Knot(t testing.TB, zones ...string) *Server {
	t.Helper()
	return knot(t, "127.0.0.1", FreePort(t), "", zones...)
}

// KnotAt starts one at an address.
func KnotAt(t testing.TB, host string, port int, zones ...string) *Server {
	t.Helper()
	return knot(t, host, port, "", zones...)
}

// KnotSigning starts one that signs its zones by itself.
func KnotSigning(t testing.TB, zones ...string) *Server {
	t.Helper()
	return knot(t, "127.0.0.1", FreePort(t), "    dnssec-signing: on\n", zones...)
}

// KnotSigningAt starts one at an address that signs a zone by itself: with keys of a TTL of so many seconds, and without asking the parent for a DS.
func KnotSigningAt(t testing.TB, host string, port int, keyTTL int, zone, text string) *Server {
	t.Helper()
	policy := fmt.Sprintf("policy:\n  - id: brisk\n    dnskey-ttl: %d\n    zone-max-ttl: %d\n    single-type-signing: on\n    cds-cdnskey-publish: none\n", keyTTL, keyTTL)
	return knotWith(t, host, port, policy, "    dnssec-signing: on\n    dnssec-policy: brisk\n", map[string]string{zone: text})
}

// NamedAt starts BIND at an address with a zone as it is, such as one that was signed before.
func NamedAt(t testing.TB, host string, port int, zone, text string) *Server {
	t.Helper()
	s := &Server{Host: host, Port: port, Dir: dir(t, "named")}
	var b strings.Builder
	namedHead(&b, s)
	file := filepath.Join(s.Dir, "zone")
	write(t, file, text)
	fmt.Fprintf(&b, "zone %q { type primary; file %q; };\n", zone, file)
	write(t, filepath.Join(s.Dir, "named.conf"), b.String())
	return run(t, s, []string{zone}, "named", "-g", "-c", filepath.Join(s.Dir, "named.conf"), "-n", "2")
}

// knot starts Knot DNS with more settings for its zones.
func knot(t testing.TB, host string, port int, more string, zones ...string) *Server {
	t.Helper()
	texts := map[string]string{}
	for _, zone := range zones {
		texts[zone] = emptyZone(zone)
	}
	return knotWith(t, host, port, "", more, texts)
}

func knotWith(t testing.TB, host string, port int, head, more string, texts map[string]string) *Server {
	t.Helper()
	s := &Server{Host: host, Port: port, Dir: dir(t, "knot")}
	var b strings.Builder
	fmt.Fprintf(&b, `server:
    listen: %s@%d
    rundir: %s
database:
    storage: %s
log:
  - target: stderr
    any: info
key:
  - id: %s
    algorithm: hmac-sha256
    secret: %s
acl:
  - id: ours
    key: %s
    action: [transfer, update]
%szone:
`, s.Host, s.Port, s.Dir, s.Dir, KeyName, Secret, KeyName, head)
	zones := slices.Sorted(maps.Keys(texts))
	for i, zone := range zones {
		file := filepath.Join(s.Dir, fmt.Sprintf("zone%d", i))
		write(t, file, texts[zone])
		fmt.Fprintf(&b, "  - domain: %s\n    file: %s\n    acl: ours\n    zonefile-sync: -1\n    journal-content: all\n    zonefile-load: whole\n%s", zone, file, more)
	}
	write(t, filepath.Join(s.Dir, "knot.conf"), b.String())
	return run(t, s, zones, "knotd", "-c", filepath.Join(s.Dir, "knot.conf"))
}

// NSDSecondary starts NSD as a secondary of a primary that is asked with the key.
func NSDSecondary(t testing.TB, port int, primary string, zones ...string) *Server {
	t.Helper()
	s := &Server{Host: "127.0.0.1", Port: port, Dir: dir(t, "nsd")}
	host, at, _ := net.SplitHostPort(primary)
	var b strings.Builder
	fmt.Fprintf(&b, `server:
    ip-address: %s@%d
    server-count: 1
    username: ""
    chroot: ""
    zonesdir: %q
    database: ""
    pidfile: %q
    xfrdfile: %q
    xfrdir: %q
    zonelistfile: %q
    verbosity: 2
    xfrd-reload-timeout: 0
remote-control:
    control-enable: no
key:
    name: %s
    algorithm: hmac-sha256
    secret: %q
`, s.Host, s.Port, s.Dir, filepath.Join(s.Dir, "pid"), filepath.Join(s.Dir, "xfrd.state"), s.Dir, filepath.Join(s.Dir, "zone.list"), KeyName, Secret)
	for i, zone := range zones {
		fmt.Fprintf(&b, "zone:\n    name: %s\n    zonefile: zone%d\n    allow-notify: %s NOKEY\n    allow-notify: %s %s\n    request-xfr: %s@%s %s\n", zone, i, host, host, KeyName, host, at, KeyName)
	}
	write(t, filepath.Join(s.Dir, "nsd.conf"), b.String())
	return run(t, s, nil, "nsd", "-d", "-c", filepath.Join(s.Dir, "nsd.conf"))
}

// Log is what the server has said so far.
func (s *Server) Log() string { return s.log.String() }

// NamedNotifying is Named, and notifies a port on loopback of every change.
func NamedNotifying(t testing.TB, port int, zones ...string) *Server {
	t.Helper()
	s := &Server{Host: "127.0.0.1", Port: FreePort(t), Dir: dir(t, "named")}
	var b strings.Builder
	namedHead(&b, s)
	for i, zone := range zones {
		file := filepath.Join(s.Dir, fmt.Sprintf("zone%d", i))
		write(t, file, emptyZone(zone))
		fmt.Fprintf(&b, "zone %q { type primary; file %q; allow-update { key %s; }; notify explicit; also-notify { 127.0.0.1 port %d; }; notify-delay 0; };\n", zone, file, KeyName, port)
	}
	write(t, filepath.Join(s.Dir, "named.conf"), b.String())
	return run(t, s, zones, "named", "-g", "-c", filepath.Join(s.Dir, "named.conf"), "-n", "2")
}
