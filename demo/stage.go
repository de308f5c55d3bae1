// Package demo puts on the Saltmarsh Ferries scenario: a small island ferry line whose domain is to move from one DNS
// provider to another. It runs database, practice world and service as processes of their own (stage.go), loads the
// scenario (scenario.go), and can go through it unattended (tour.go).
package demo

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"beacon/demo/profiles"
	"beacon/reach"
	"beacon/store/mariadbd"
)

// Options say where a demo stands.
type Options struct {
	Dir      string // everything it keeps is below
	Listen   string // of the service
	Net      int    // second octet of the practice world's addresses
	DNSPort  int
	HTTPPort int
	Rate     float64
	Signed   bool      // root and registries of the practice world are signed, and signatures are judged
	Program  string    // path of the beacon program
	Fleet    bool      // load some forty domains in all states beside the one to be moved
	Progress io.Writer // what is being loaded is said here; nil for nowhere
	// For tests: other settings of the service, as lines of its settings file.
	Settings string
	Fast     bool // a database that forgets on power loss, as tests may have it
}

// Stage is a running demo.
type Stage struct {
	Options
	Password string // of the first user, admin
	http     *http.Client
	mu       sync.Mutex
	tokens   map[string]string // of users who are signed in
	database *mariadbd.Server
	practice *process
	service  *process
}

// process is one child.
type process struct {
	name  string
	cmd   *exec.Cmd
	ended chan struct{}
	log   string
}

// attr keeps Ctrl-C on the terminal from the children, who are stopped in order instead, and ends them should this
// process die without a chance to.
func attr() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
}

// Start brings database, practice world and service up, and loads the scenario if the folder is new. The caller must
// stay on its operating system thread (runtime.LockOSThread), to which the children's lives are tied.
func Start(ctx context.Context, opt Options) (*Stage, error) {
	dir, err := filepath.Abs(opt.Dir)
	if err != nil {
		return nil, err
	}
	opt.Dir = dir
	s := &Stage{Options: opt, http: reach.Loopback().HTTPClient(20 * time.Second), tokens: map[string]string{}}
	for _, step := range []func(context.Context) error{s.startDatabase, s.StartPractice, s.prepareService, s.StartService, s.load} {
		if err := step(ctx); err != nil {
			s.Stop()
			return nil, err
		}
	}
	return s, nil
}

// Address is where the service answers.
func (s *Stage) Address() string { return "http://" + s.Listen }

// Site returns the base address of an HTTP site of the practice world: a provider, a registrar, rdap or control.
func (s *Stage) Site(name string) string {
	at := map[string]string{"heron": "4.1", "plover": "5.1", "curlew": "6.1", "whimbrel": "10.1", "lapwing": "11.1", "gannet": "3.1", "skua": "3.2", "rdap": "3.9", "control": "9.1"}[name]
	return fmt.Sprintf("http://127.%d.%s:%d", s.Net, at, s.HTTPPort)
}

func (s *Stage) path(name string) string { return filepath.Join(s.Dir, name) }

func (s *Stage) startDatabase(ctx context.Context) (err error) {
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return err
	}
	s.database, err = mariadbd.Start(ctx, mariadbd.Options{Dir: s.path("db"), Attr: attr(), Fast: s.Fast})
	return err
}

// StartPractice starts the practice world.
func (s *Stage) StartPractice(ctx context.Context) (err error) {
	s.practice, err = s.spawn("practice", nil, "practice", "--net", fmt.Sprint(s.Net), "--dns-port", fmt.Sprint(s.DNSPort),
		"--http-port", fmt.Sprint(s.HTTPPort), "--rate", fmt.Sprint(s.Rate), fmt.Sprintf("--signed=%t", s.Signed), "--state", s.path("practice.json"))
	if err != nil {
		return err
	}
	return s.await(ctx, s.practice, s.Site("control")+"/clock")
}

func randomWord() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// keepWord reads a word from a file, or makes one and keeps it there.
func (s *Stage) keepWord(name string) (string, error) {
	text, err := os.ReadFile(s.path(name))
	if err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	word := randomWord()
	return word, os.WriteFile(s.path(name), []byte(word+"\n"), 0o600)
}

// prepareService makes the service's database account and its settings file.
func (s *Stage) prepareService(ctx context.Context) error {
	var err error
	if s.Password, err = s.keepWord("password"); err != nil {
		return err
	}
	dbPassword := randomWord()
	if err := s.database.Provide(ctx, "beacon", "beacon", dbPassword); err != nil {
		return err
	}
	roots, err := s.get(ctx, s.Site("control")+"/roots")
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.path("roots.zone"), roots, 0o600); err != nil {
		return err
	}
	anchor, err := s.get(ctx, s.Site("control")+"/anchor")
	if err != nil {
		return err
	}
	anchors, validating := "", ""
	if len(anchor) > 0 {
		anchors = "trust_anchors: anchor.zone, "
		validating = fmt.Sprintf("  - {name: sextant, address: \"127.%d.8.6:%d\"} # judges signatures\n", s.Net, s.DNSPort)
	}
	if err := os.WriteFile(s.path("anchor.zone"), anchor, 0o600); err != nil {
		return err
	}
	notary, err := s.get(ctx, s.Site("control")+"/notary")
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.path("notary.pem"), notary, 0o600); err != nil {
		return err
	}
	detours, err := s.get(ctx, s.Site("control")+"/routes")
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.path("piers.beacon.yaml"), piersFile, 0o600); err != nil {
		return err
	}
	if err := os.MkdirAll(s.path("checkout"), 0o700); err != nil {
		return err
	}
	ours, err := fs.Glob(profiles.Files, "*")
	if err != nil {
		return err
	}
	for _, name := range ours { // those of an earlier version may be out of date; others stay
		if err := os.Remove(filepath.Join(s.path("profiles"), name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := os.CopyFS(s.path("profiles"), profiles.Files); err != nil {
		return err
	}
	registries := fmt.Sprintf(`{"version": "1.0", "services": [[["example", "test"], [%q]]]}`+"\n", s.Site("rdap"))
	if err := os.WriteFile(s.path("rdap.json"), []byte(registries), 0o600); err != nil {
		return err
	}
	settings := fmt.Sprintf(`# Settings of the demo's service. All of it is on loopback.
listen: %s
database: {socket: %s, user: beacon, password: %s, database: beacon}
key_file: beacon.key
allowed_networks: [127.0.0.0/8, "::1/128"]
dns: {root_hints: roots.zone, %sport: %d, per_second: -1} # its hours are minutes here: politeness by the second would be sloth
world_clock: %s/clock
hosts: {allowed_networks: [127.0.0.0/8, 192.0.2.0/24, 198.51.100.0/24, 203.0.113.0/24, "2001:db8::/32"]} # of this world
new_zones: {kits: piers.beacon.yaml, kit: pier-site} # what a new zone starts with
websites: # web hosts; their addresses are from documentation, and are reached on loopback here
  ca_file: notary.pem
  issuers: [{identity: ca.example, organization: Lantern Notary}]
  address_overrides: %s
profiles: profiles # of providers and registrars, one file each
rdap_bootstrap: rdap.json # which registry answers where
watch: {folder: checkout} # definitions that are put there are followed
primary: {listen: "%s"} # dynamic updates are taken here
resolvers:
  - {name: harbour, address: "127.%d.8.1:%d", group: our office}
  - {name: lighthouse, address: "127.%d.8.2:%d", group: our office}
  - {name: dinghy, address: "127.%d.8.3:%d", group: mobile}
%s# - {name: limpet, address: "127.%d.8.4:%d"} # never leaves the old servers as long as they answer
# - {name: ebb, address: "127.%d.8.5:%d"} # serves stale answers
`, s.Listen, s.database.Socket, dbPassword, anchors, s.DNSPort, s.Site("control"), strings.TrimSpace(string(detours)), s.Updates(), s.Net, s.DNSPort, s.Net, s.DNSPort, s.Net, s.DNSPort, validating, s.Net, s.DNSPort, s.Net, s.DNSPort)
	if !strings.Contains(s.Settings, "drift:") {
		settings += "drift: {every: 1m} # a change at a provider is seen soon\n"
	}
	return os.WriteFile(s.path("beacon.yaml"), []byte(settings+s.Settings), 0o600)
}

// Updates is where the service takes dynamic updates: address and port.
func (s *Stage) Updates() string { return fmt.Sprintf("127.%d.9.2:%d", s.Net, s.DNSPort) }

// StartService starts the service.
func (s *Stage) StartService(ctx context.Context) (err error) {
	if err := s.firstUser(ctx); err != nil {
		return err
	}
	s.service, err = s.spawn("service", nil, "serve", "--settings", s.path("beacon.yaml"))
	if err != nil {
		return err
	}
	return s.await(ctx, s.service, s.Address()+"/readyz")
}

// firstUser makes the first user, once.
func (s *Stage) firstUser(ctx context.Context) error {
	if _, err := os.Stat(s.path("first-user")); err == nil {
		return nil
	}
	out, err := exec.CommandContext(ctx, s.Program, "first-user", "--settings", s.path("beacon.yaml"), "--password-file", s.path("password")).CombinedOutput()
	if err != nil && !strings.Contains(string(out), "There are users already") { // of a start that was broken off
		return fmt.Errorf("making the first user: %s", out)
	}
	return s.keep("first-user", nil)
}

// ServicePID is the service's process.
func (s *Stage) ServicePID() int { return s.service.cmd.Process.Pid }

// KillService ends the service at once, as a crash would, and waits until it is gone.
func (s *Stage) KillService() {
	_ = s.service.cmd.Process.Kill()
	<-s.service.ended
}

func (s *Stage) spawn(name string, env []string, args ...string) (*process, error) {
	p := &process{name: name, log: s.path(name + ".log"), ended: make(chan struct{})}
	out, err := os.OpenFile(p.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	p.cmd = exec.Command(s.Program, args...)
	p.cmd.Env = append(os.Environ(), env...)
	p.cmd.Stdout, p.cmd.Stderr, p.cmd.SysProcAttr = out, out, attr()
	if err := p.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the %s: %w", name, err)
	}
	go func() {
		_ = p.cmd.Wait()
		close(p.ended)
	}()
	return p, nil
}

// await waits until a process answers at url.
func (s *Stage) await(ctx context.Context, p *process, url string) error {
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if _, err := s.get(ctx, url); err == nil {
			return nil
		}
		select {
		case <-p.ended:
			return fmt.Errorf("the %s ended: %s", p.name, lastLine(p.log))
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the %s does not answer at %s; its log is %s", p.name, url, p.log)
		}
	}
}

func lastLine(path string) string {
	text, _ := os.ReadFile(path)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return lines[len(lines)-1]
}

// Wait returns when ctx ends, or with an error when one of the processes has ended by itself.
func (s *Stage) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case <-s.database.Ended():
		return errors.New("the database ended; its log is " + s.path("db/log"))
	case <-s.practice.ended:
		return errors.New("the practice world ended: " + lastLine(s.practice.log))
	case <-s.service.ended:
		return errors.New("the service ended: " + lastLine(s.service.log))
	}
}

// Stop ends everything that was started, the service first, and waits for it.
func (s *Stage) Stop() {
	for _, p := range []*process{s.service, s.practice} {
		if p == nil {
			continue
		}
		_ = p.cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-p.ended:
		case <-time.After(30 * time.Second):
			_ = p.cmd.Process.Kill()
			<-p.ended
		}
	}
	if s.database != nil {
		s.database.Stop()
	}
}
