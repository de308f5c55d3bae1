// Package peerstest builds a small internet of real servers for tests: named as root and as host of domains, nsd as registry,
// unbound as validating resolver, all on loopback addresses of their own and port 53. Zones are signed with BIND's tools, so
// that nothing of ours judges what it made itself.
package peerstest

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"
)

// The world's servers, by the last two octets of their addresses.
const (
	Root     = "0.1"
	Registry = "1.1" // and 1.2: nsd, for the zone example.
	East     = "2.1" // named
	West     = "2.2" // another named
	Cache    = "8.1" // unbound
	Nobody   = "9.9" // nothing is there
)

// Lab is a world in the making, and then a running one.
type Lab struct {
	t       testing.TB
	Net     int
	Dir     string
	zones   map[string]map[string]string // by server, then zone: the file
	parent  strings.Builder              // what the registry says of the domains
	Anchors string                       // as DS lines
	Hints   string                       // as a zone file
	Gives   bool                         // named lets anybody transfer its zones
}

// New begins a world.
func New(t testing.TB) *Lab {
	t.Helper()
	dir, err := os.MkdirTemp("", "beacon-peers")
	check(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return &Lab{t: t, Net: 77, Dir: dir, zones: map[string]map[string]string{}}
}

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// IP returns the address of a server.
func (l *Lab) IP(site string) string { return fmt.Sprintf("127.%d.%s", l.Net, site) }

// At returns address and port of a server.
func (l *Lab) At(site string) string { return net.JoinHostPort(l.IP(site), "53") }

func (l *Lab) write(name, text string) string {
	l.t.Helper()
	path := filepath.Join(l.Dir, name)
	check(l.t, os.MkdirAll(filepath.Dir(path), 0o755))
	check(l.t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

func (l *Lab) run(program string, args ...string) string {
	l.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = l.Dir
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.Output()
	if err != nil {
		l.t.Fatalf("%s %s: %v\n%s", program, strings.Join(args, " "), err, said.String())
	}
	return string(out)
}

// Signing returns how a zone is signed.
type Signing struct {
	Algorithm string   // such as ECDSAP256SHA256, which is used where nothing is said
	NSEC3     bool     // else NSEC
	Rounds    int      // extra iterations of NSEC3
	Salt      string   // in hex
	Begin     string   // as BIND's tools take it, such as now-3600
	End       string   // such as now+86400
	Digest    string   // of the DS record; SHA-256
	Bits      int      // of RSA keys
	More      []string // further options
}

// Key makes a key for a zone, and gives the path of its files without their endings.
func (l *Lab) Key(zone string, s Signing) string {
	l.t.Helper()
	algorithm := s.Algorithm
	if algorithm == "" {
		algorithm = "ECDSAP256SHA256"
	}
	args := []string{"-q", "-K", l.Dir, "-a", algorithm, "-f", "KSK"}
	if strings.HasPrefix(algorithm, "RSA") || strings.HasPrefix(algorithm, "NSEC3RSA") {
		args = append(args, "-b", fmt.Sprint(max(s.Bits, 1024)))
	}
	lines := strings.Fields(l.run("dnssec-keygen", append(args, zone)...)) // warnings may come first
	return filepath.Join(l.Dir, lines[len(lines)-1])
}

// DS returns the DS record of a key.
func (l *Lab) DS(key, digest string) string {
	l.t.Helper()
	if digest == "" {
		digest = "SHA-256"
	}
	return l.run("dnssec-dsfromkey", "-a", digest, key+".key")
}

// Sign signs a zone file with a key that signs both keys and data, and gives the signed text.
func (l *Lab) Sign(zone, text, key string, s Signing) string {
	l.t.Helper()
	public, err := os.ReadFile(key + ".key")
	check(l.t, err)
	in := l.write("unsigned", text+"\n"+string(public))
	out := filepath.Join(l.Dir, "signed")
	args := []string{"-P", "-z", "-o", zone, "-f", out, "-K", l.Dir, "-d", l.Dir}
	if s.NSEC3 {
		salt := s.Salt
		if salt == "" {
			salt = "-"
		}
		args = append(args, "-3", salt, "-H", fmt.Sprint(s.Rounds))
	}
	if s.Begin != "" {
		args = append(args, "-s", s.Begin)
	}
	if s.End != "" {
		args = append(args, "-e", s.End)
	}
	l.run("dnssec-signzone", append(append(args, s.More...), in, key)...)
	signed, err := os.ReadFile(out)
	check(l.t, err)
	return string(signed)
}

// Zone is the text of a small zone with the given nameservers and further lines.
func Zone(name string, serial int, servers []string, more ...string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "$ORIGIN %s\n$TTL 300\n@ SOA %s hostmaster.nic.example. %d 7200 3600 1209600 300\n", name, servers[0], serial)
	for _, s := range servers {
		fmt.Fprintf(&b, "@ NS %s\n", s)
	}
	for _, line := range more {
		b.WriteString(line + "\n")
	}
	return b.String()
}

// Serve puts a zone on a server.
func (l *Lab) Serve(site, zone, text string) {
	if l.zones[site] == nil {
		l.zones[site] = map[string]string{}
	}
	l.zones[site][zone] = l.write(fmt.Sprintf("zones/%s-%s", strings.ReplaceAll(site, ".", "-"), strings.Trim(strings.ReplaceAll(zone, ".", "_"), "_")+"zone"), text)
}

// Delegate has the registry say what the lines say: NS, DS and glue records of a domain.
func (l *Lab) Delegate(lines ...string) {
	for _, line := range lines {
		l.parent.WriteString(line + "\n")
	}
}

// Start signs root and registry, and starts all servers.
func (l *Lab) Start() {
	l.t.Helper()
	registry := Zone("example.", 1, []string{"a.nic.example.", "b.nic.example."}, "a.nic A "+l.IP("1.1"), "b.nic A "+l.IP("1.2"),
		"ns1.hosts A "+l.IP(East), "ns2.hosts A "+l.IP(West), l.parent.String())
	key := l.Key("example.", Signing{})
	signed := l.Sign("example.", registry, key, Signing{})
	l.Serve(Registry, "example.", signed)
	rootKey := l.Key(".", Signing{})
	root := Zone(".", 1, []string{"a.root."}, "a.root. A "+l.IP(Root), "example. NS a.nic.example.", "example. NS b.nic.example.",
		"a.nic.example. A "+l.IP("1.1"), "b.nic.example. A "+l.IP("1.2"), l.DS(key, ""))
	l.Serve(Root, ".", l.Sign(".", root, rootKey, Signing{}))
	l.Ready(rootKey)
	l.Named(Root)
	l.NSD(Registry, "1.2")
	l.Named(East)
	l.Named(West)
	l.Unbound(Cache)
}

// Named starts BIND with the zones of a server.
func (l *Lab) Named(site string) *exec.Cmd {
	l.t.Helper()
	l.own(site)
	dir := filepath.Join(l.Dir, "named-"+site)
	check(l.t, os.MkdirAll(dir, 0o755))
	var b strings.Builder
	fmt.Fprintf(&b, `controls { };
options { directory %q; pid-file %q; session-keyfile %q; listen-on port 53 { %s; }; listen-on-v6 { none; }; recursion no; dnssec-validation no;
  allow-transfer { %s; }; notify no; minimal-responses no; max-rsa-exponent-size 0; };
`, dir, filepath.Join(dir, "pid"), filepath.Join(dir, "session.key"), l.IP(site), map[bool]string{true: "any", false: "none"}[l.Gives])
	for zone, file := range l.zones[site] {
		fmt.Fprintf(&b, "zone %q { type primary; file %q; check-integrity no; check-names ignore; };\n", zone, file)
	}
	conf := l.write("named-"+site+"/named.conf", b.String())
	return l.start(l.At(site), "named", "-g", "-c", conf, "-n", "1")
}

// NSD starts NSD with the zones of a server, on its address and further ones.
func (l *Lab) NSD(sites ...string) *exec.Cmd {
	l.t.Helper()
	dir := filepath.Join(l.Dir, "nsd-"+sites[0])
	check(l.t, os.MkdirAll(dir, 0o755))
	var b strings.Builder
	b.WriteString("server:\n")
	for _, site := range sites {
		fmt.Fprintf(&b, "    ip-address: %s@53\n", l.IP(site))
	}
	fmt.Fprintf(&b, "    server-count: 1\n    username: \"\"\n    chroot: \"\"\n    zonesdir: %q\n    database: \"\"\n    pidfile: %q\n    xfrdfile: %q\n    xfrdir: %q\n    zonelistfile: %q\n    rrl-ratelimit: 0\nremote-control:\n    control-enable: no\n",
		dir, filepath.Join(dir, "pid"), filepath.Join(dir, "xfrd"), dir, filepath.Join(dir, "zones"))
	for zone, file := range l.zones[sites[0]] {
		fmt.Fprintf(&b, "zone:\n    name: %q\n    zonefile: %q\n", zone, file)
	}
	conf := l.write("nsd-"+sites[0]+"/nsd.conf", b.String())
	return l.start(l.At(sites[0]), "nsd", "-d", "-c", conf)
}

// Unbound starts a validating resolver that knows this root only.
func (l *Lab) Unbound(site string) *exec.Cmd {
	l.t.Helper()
	return l.resolver(site, "validator iterator", fmt.Sprintf("trust-anchor-file: %q", filepath.Join(l.Dir, "anchors")), "ede: yes")
}

// Cache starts a resolver that does not validate, and knows this root only.
func (l *Lab) Cache(site string, more ...string) *exec.Cmd {
	l.t.Helper()
	l.write("hints", l.Hints)
	return l.resolver(site, "iterator", more...)
}

func (l *Lab) resolver(site, modules string, more ...string) *exec.Cmd {
	l.t.Helper()
	conf := l.write("unbound-"+site+".conf", fmt.Sprintf(`server:
    interface: %s@53
    do-daemonize: no
    username: ""
    chroot: ""
    directory: %q
    pidfile: ""
    use-syslog: no
    do-not-query-localhost: no
    access-control: 127.0.0.0/8 allow
    root-hints: %q
    module-config: %q
    do-ip6: no
    num-threads: 1
    outgoing-interface: %s
    %s
remote-control:
    control-enable: no
`, l.IP(site), l.Dir, filepath.Join(l.Dir, "hints"), modules, l.IP(site), strings.Join(more, "\n    ")))
	return l.start(l.At(site), "unbound", "-d", "-p", "-c", conf)
}

// start starts a server, and waits until it answers anything.
func (l *Lab) start(at, program string, args ...string) *exec.Cmd {
	l.t.Helper()
	log, err := os.Create(filepath.Join(l.Dir, fmt.Sprintf("%s-%s.log", program, at)))
	check(l.t, err)
	defer log.Close()
	said := func() string { text, _ := os.ReadFile(log.Name()); return string(text[max(0, len(text)-4000):]) }
	cmd := exec.Command(program, args...)
	cmd.Stdout, cmd.Stderr = log, log
	check(l.t, cmd.Start())
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	l.t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = cmd.Process.Kill()
			<-ended
		}
	})
	client := dns.Client{Timeout: 300 * time.Millisecond}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if _, _, err := client.Exchange(new(dns.Msg).SetQuestion("nobody.invalid.", dns.TypeA), at); err == nil {
			return cmd
		}
		select {
		case <-ended:
			l.t.Fatalf("%s ended:\n%s", program, said())
		default:
		}
	}
	l.t.Fatalf("%s does not answer at %s:\n%s", program, at, said())
	return nil
}

// Believes asks the resolver for a set: "secure", "insecure" or "bogus", as it judges.
func (l *Lab) Believes(site, name string, t uint16) string {
	l.t.Helper()
	client := dns.Client{Timeout: 5 * time.Second, UDPSize: 1232}
	ask := func(unchecked bool) *dns.Msg {
		m := new(dns.Msg).SetQuestion(name, t)
		m.SetEdns0(1232, true)
		m.CheckingDisabled = unchecked
		for range 3 {
			if r, _, err := client.Exchange(m, l.At(site)); err == nil {
				return r
			}
		}
		l.t.Fatalf("the resolver does not answer for %s", name)
		return nil
	}
	r := ask(false)
	switch {
	case r.Rcode == dns.RcodeServerFailure && ask(true).Rcode == dns.RcodeServerFailure:
		return "indeterminate"
	case r.Rcode == dns.RcodeServerFailure:
		return "bogus"
	case r.AuthenticatedData:
		return "secure"
	}
	return "insecure"
}

// ServeSame puts a zone on a server whose text, relative to its origin, is that of all others that are put there so.
func (l *Lab) ServeSame(site, zone, text string) {
	if l.zones[site] == nil {
		l.zones[site] = map[string]string{}
		l.write("zones/same-"+site, text)
	}
	l.zones[site][zone] = filepath.Join(l.Dir, "zones/same-"+site)
}

// Ready writes down where the root is, and its anchors.
func (l *Lab) Ready(rootKey string) {
	l.t.Helper()
	l.Anchors = l.DS(rootKey, "")
	l.Hints = fmt.Sprintf(". 3600 NS a.root.\na.root. 3600 A %s\n", l.IP(Root))
	l.write("hints", l.Hints)
	l.write("anchors", l.Anchors)
}

// StartPlain starts an unsigned world with nsd alone: root, registry, and one host of domains at both addresses.
func (l *Lab) StartPlain() {
	l.t.Helper()
	l.Serve(Registry, "example.", Zone("example.", 1, []string{"a.nic.example.", "b.nic.example."}, "a.nic A "+l.IP("1.1"), "b.nic A "+l.IP("1.2"),
		"ns1.hosts A "+l.IP(East), "ns2.hosts A "+l.IP(West), l.parent.String()))
	l.Serve(Root, ".", Zone(".", 1, []string{"a.root."}, "a.root. A "+l.IP(Root), "example. NS a.nic.example.", "example. NS b.nic.example.",
		"a.nic.example. A "+l.IP("1.1"), "b.nic.example. A "+l.IP("1.2")))
	l.Hints = fmt.Sprintf(". 3600 NS a.root.\na.root. 3600 A %s\n", l.IP(Root))
	l.NSD(Root)
	l.NSD(Registry, "1.2")
	l.NSD(East, West)
}
