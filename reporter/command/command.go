// Package command is the command that runs a reporter. It is `beacon host report`, and `beacon-report`: a small program with this command alone, for machines with little memory.
package command

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	core "beacon/core/reporter"
	"beacon/reach"
	"beacon/reporter"
)

// Program is what the command runs in.
type Program struct {
	Address func() string                    // of the service
	Secured func() error                     // refuses an address to which the token would go in plain text
	Show    func(v any, human func()) error  // prints v in the format that the user chose
	Printf  func(format string, args ...any) // prints for people
	Door    *reach.Door
	Name    string // as it is typed
}

// Exit ends the command with a code; Message may be empty where everything was said.
type Exit struct {
	Code    int
	Message string
}

func (e Exit) Error() string { return e.Message }

// Codes of the command.
const (
	Failed  = 1
	Unknown = 3
	Misuse  = 64
)

func misuse(format string, args ...any) error { return Exit{Misuse, fmt.Sprintf(format, args...)} }

// options are those of the command, as they are typed.
type options struct {
	host, tokenFile, v4, v6, prefix, state string
	bits                                   int
	every                                  time.Duration
	once, status, dryRun, install          bool
	unitFolder                             string
}

const longHelp = `Report addresses of this machine again and again: when one changes, and otherwise seldom. An address that has not
changed writes nothing. --v4 and --v6 say where each comes from:

  ADDRESS            this one
  interface:NAME     the interface of this machine: global, preferred, neither temporary nor tentative
  interface          any interface of this machine
  router             what the router says (NAT-PMP or PCP); router:ADDRESS where it is not the gateway
  service            what the service sees the report come from
  URL                what another service sees: a page that shows the address alone

Without any of them the service uses the address that the report comes from. --prefix interface:NAME reports the
IPv6 prefixes of an interface, the preferred one first; one that is being withdrawn is not reported.

Exit codes with --once: 0 accepted, unchanged or held, 1 refused or unreachable, 3 the service was not reached or no
address was found, 64 misuse. With --status: 0 reporting, 1 not reporting, 3 no reporter has run.`

// New returns the command.
func New(p Program) *cobra.Command {
	var o options
	c := &cobra.Command{Use: "report", Short: "Report this machine's addresses for a dynamic host", Args: cobra.NoArgs, Long: longHelp,
		Example: "  " + p.Name + " --host pier-cam.saltmarsh-ferries.example --token-file pier-cam.token\n" +
			"  " + p.Name + " --token-file pier-cam.token --v4 router --v6 interface:eth0\n" +
			"  " + p.Name + " --status\n" +
			"  " + p.Name + " --install --token-file /etc/beacon/pier-cam.token --v6 interface:eth0",
		RunE: func(*cobra.Command, []string) error { return p.run(o) }}
	c.Flags().BoolVar(&o.once, "once", false, "report once, and end")
	c.Flags().BoolVar(&o.dryRun, "dry-run", false, "show what would be reported, or installed, and do nothing")
	c.Flags().BoolVar(&o.status, "status", false, "show what the running reporter did last")
	c.Flags().BoolVar(&o.install, "install", false, "write a systemd unit that reports with the same options, without rights")
	c.Flags().StringVar(&o.unitFolder, "unit-folder", "/etc/systemd/system", "folder of the unit")
	c.Flags().StringVar(&o.host, "host", "", "the dynamic host; else the token says it")
	c.Flags().StringVar(&o.tokenFile, "token-file", "", "file with the host's token")
	c.Flags().StringVar(&o.v4, "v4", "", "where the IPv4 address comes from")
	c.Flags().StringVar(&o.v6, "v6", "", "where the IPv6 address comes from")
	c.Flags().StringVar(&o.prefix, "prefix", "", "where IPv6 prefixes come from: interface:NAME")
	c.Flags().IntVar(&o.bits, "prefix-length", 64, "length of the prefixes, 16 to 64 bits")
	c.Flags().DurationVar(&o.every, "every", 5*time.Minute, "how often to report what has not changed")
	c.Flags().StringVar(&o.state, "state-file", "", "where it is kept what was reported last (default in the user's state folder)")
	return c
}

// read returns the options of the reporter.
func (o options) read(p Program) (r reporter.Options, err error) {
	r = reporter.Options{Address: p.Address(), Host: o.host, TokenFile: o.tokenFile, Bits: o.bits, Every: o.every, Door: p.Door}
	for _, f := range []struct {
		flag, text string
		to         *reporter.From
	}{{"--v4", o.v4, &r.V4}, {"--v6", o.v6, &r.V6}, {"--prefix", o.prefix, &r.Prefix}} {
		if *f.to, err = reporter.ParseFrom(f.text); err != nil {
			return r, misuse("%s: %s", f.flag, err)
		}
	}
	switch {
	case o.every < 10*time.Second:
		return r, misuse("--every is at least 10s")
	case r.Prefix.Kind != "" && r.Prefix.Kind != reporter.Interface:
		return r, misuse("--prefix: prefixes come from an interface: interface:NAME")
	case o.bits < 16 || o.bits > 64:
		return r, misuse("--prefix-length is 16 to 64")
	case r.V6.Kind == reporter.Router:
		return r, misuse("--v6: routers say their IPv4 address only; use interface:NAME or --prefix")
	}
	if r.V4.Kind == "" && r.V6.Kind == "" && r.Prefix.Kind == "" {
		r.Any = true
	}
	r.StateFile = o.stateFile()
	return r, nil
}

// stateFile is where the state is kept: in the folder that systemd gives, or the user's.
func (o options) stateFile() string {
	if o.state != "" {
		return o.state
	}
	name := "report.json"
	if o.host != "" {
		name = "report-" + strings.ReplaceAll(strings.TrimSuffix(o.host, "."), "/", "_") + ".json"
	}
	if dir := os.Getenv("STATE_DIRECTORY"); dir != "" {
		return filepath.Join(dir, name)
	}
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "beacon", name)
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Join(home, ".local", "state", "beacon", name)
}

func (p Program) run(o options) error {
	if o.status {
		return p.status(o)
	}
	opt, err := o.read(p)
	if err != nil {
		return err
	}
	if o.install {
		return p.install(o)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if o.dryRun {
		return p.dryRun(ctx, opt)
	}
	if o.tokenFile == "" {
		return misuse("name the file with the host's token: --token-file")
	}
	if _, err := os.ReadFile(o.tokenFile); err != nil {
		return misuse("--token-file: %s", err)
	}
	if err := p.Secured(); err != nil {
		return err
	}
	if o.once {
		return p.once(ctx, opt)
	}
	opt.Note = func(format string, args ...any) {
		p.Printf("%s  %s\n", time.Now().Format(time.DateTime), fmt.Sprintf(format, args...))
	}
	reporter.New(opt).Run(ctx)
	return nil
}

// onceTries is how often one report is tried where the service is not reached.
const onceTries = 3

func (p Program) once(ctx context.Context, opt reporter.Options) error {
	r := reporter.New(opt)
	var answers []reporter.Answer
	var err error
	for try := 1; ; try++ {
		answers, err = r.Once(ctx)
		lost := err != nil || slices.ContainsFunc(answers, func(a reporter.Answer) bool { return a.Outcome == core.Lost })
		if !lost || try == onceTries || ctx.Err() != nil {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(try) * time.Second):
		}
	}
	if err != nil {
		return Exit{Unknown, err.Error()}
	}
	code := 0
	for _, a := range answers {
		switch a.Outcome {
		case core.Lost:
			return Exit{Unknown, a.Line}
		case core.Refused:
			code = Failed
		}
		p.Printf("%s  %s\n", time.Now().Format(time.DateTime), a.Line)
	}
	if code != 0 {
		return Exit{code, ""}
	}
	return nil
}

func (p Program) dryRun(ctx context.Context, opt reporter.Options) error {
	said, trouble := reporter.New(opt).Found(ctx)
	out := map[string]any{"address": opt.Address, "said": said, "trouble": trouble}
	err := p.Show(out, func() {
		p.Printf("Would report to %s:\n", opt.Address)
		for _, name := range []string{"v4", "v6", "prefix", "any"} {
			if text, is := said[name]; is {
				p.Printf("  %-7s %s\n", strings.Replace(name, "any", "", 1), text)
			}
			if text, is := trouble[name]; is {
				p.Printf("  %-7s %s\n", name, text)
			}
		}
		if len(said)+len(trouble) == 0 {
			p.Printf("  nothing: no address was found\n")
		}
		p.Printf("Nothing was reported.\n")
	})
	if err == nil && len(said) == 0 {
		return Exit{Unknown, ""}
	}
	return err
}

func (p Program) status(o options) error {
	path := o.stateFile()
	s, err := reporter.ReadState(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Exit{Unknown, fmt.Sprintf("no reporter has run: there is no %s. With --host, say which one; with --state-file, where it keeps its state", path)}
	}
	if err != nil {
		return Exit{Unknown, err.Error()}
	}
	runs := running(s.PID)
	reports := runs && s.Reports(time.Now())
	err = p.Show(map[string]any{"reports": reports, "runs": runs, "state": s}, func() { p.showState(s, runs, reports) })
	if err == nil && !reports {
		return Exit{Failed, ""}
	}
	return err
}

// running reports whether a process is there.
func running(pid int) bool {
	process, err := os.FindProcess(pid)
	return err == nil && (process.Signal(syscall.Signal(0)) == nil || errors.Is(process.Signal(syscall.Signal(0)), os.ErrPermission))
}

func (p Program) showState(s reporter.State, runs, reports bool) {
	state := "reporting"
	switch {
	case !runs:
		state = "NOT RUNNING"
	case s.Refused:
		state = "REFUSED"
	case !reports:
		state = "NOT REPORTING"
	case s.Tried.After(s.Reached):
		state = "reporting; the last report did not reach the service"
	}
	line := func(label, text string) {
		if text != "" {
			p.Printf("  %-9s %s\n", label, text)
		}
	}
	at := func(t time.Time) string {
		if t.IsZero() {
			return "never"
		}
		return t.Local().Format(time.DateTime)
	}
	name := s.Host
	if name == "" {
		name = "the host of the token"
	}
	p.Printf("%s: %s\n", name, state)
	line("service", s.Address)
	line("process", fmt.Sprintf("%d, since %s", s.PID, at(s.Began)))
	line("answered", at(s.Reached))
	if reports {
		line("next", at(s.Next))
	} else {
		line("tried", at(s.Tried))
	}
	for _, family := range []string{"v4", "v6", "prefix", "any"} {
		line(strings.Replace(family, "any", "report", 1), s.Said[family])
		line("", s.Answers[family])
		line("", s.Trouble[family])
	}
}
