package service

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"beacon/core/delegation"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/tell"
	"beacon/wire"
)

// TellSettings say who is told when a domain's verdict changes.
type TellSettings struct {
	After time.Duration `yaml:"after"` // how long a verdict has to last before it is told, wall time
	Quiet struct {
		From  string `yaml:"from"` // times of day, such as 22:00
		To    string `yaml:"to"`
		Place string `yaml:"place"` // such as Europe/Berlin; UTC
	} `yaml:"quiet"`
	Mail  []MailSettings `yaml:"mail"`
	Hooks []HookSettings `yaml:"webhooks"`
}

// MailSettings are one way to tell people.
type MailSettings struct {
	Name         string   `yaml:"name"`
	Server       string   `yaml:"server"` // host and port
	From         string   `yaml:"from"`
	To           []string `yaml:"to"`
	User         string   `yaml:"user"`
	PasswordFile string   `yaml:"password_file"`
	Plain        bool     `yaml:"plain"` // the connection may stay unsecured
}

// HookSettings are one way to tell a program.
type HookSettings struct {
	Name       string `yaml:"name"`
	Address    string `yaml:"address"`
	SecretFile string `yaml:"secret_file"`
	Always     bool   `yaml:"always"` // also in quiet hours
}

// channel is one way to tell.
type channel struct {
	name   string
	send   func(context.Context, tell.Word) error
	always bool
}

func (t *TellSettings) paths(folder string) {
	at := func(file *string) {
		if *file != "" && !filepath.IsAbs(*file) {
			*file = filepath.Join(folder, *file)
		}
	}
	for i := range t.Mail {
		at(&t.Mail[i].PasswordFile)
	}
	for i := range t.Hooks {
		at(&t.Hooks[i].SecretFile)
	}
}

func (t TellSettings) check(fail func(string, ...any)) {
	names := map[string]bool{}
	named := func(kind, name string) {
		if name == "" || len(name) > 100 || names[name] {
			fail("tell.%s: %q: each needs a name of its own", kind, name)
		}
		names[name] = true
	}
	for _, m := range t.Mail {
		named("mail", m.Name)
		for _, a := range append([]string{m.From}, m.To...) {
			if err := tell.CheckAddress(a); err != nil {
				fail("tell.mail %s: %s", m.Name, err)
			}
		}
		if m.Server == "" || len(m.To) == 0 {
			fail("tell.mail %s: give server, from and to", m.Name)
		}
	}
	for _, h := range t.Hooks {
		named("webhooks", h.Name)
		if u, err := url.Parse(h.Address); err != nil || u.Host == "" || h.SecretFile == "" {
			fail("tell.webhooks %s: give an address such as https://program.example/word, and a secret_file", h.Name)
		}
	}
	if _, err := tell.ParseQuiet(t.Quiet.From, t.Quiet.To, t.Quiet.Place); err != nil {
		fail("tell.quiet: %s", err)
	}
}

// channels gives the ways to tell, by name. Secrets are read when they are used, so that a new one counts at once.
func (s *Service) channels() map[string]channel {
	out := map[string]channel{}
	for _, m := range s.settings.Tell.Mail {
		out[m.Name] = channel{name: m.Name, send: func(ctx context.Context, w tell.Word) error {
			password, err := secretIn(m.PasswordFile)
			if err != nil {
				return err
			}
			return tell.Mail{Door: s.door, Server: m.Server, From: m.From, To: m.To, User: m.User, Password: password, Plain: m.Plain}.Send(ctx, w)
		}}
	}
	for _, h := range s.settings.Tell.Hooks {
		out[h.Name] = channel{name: h.Name, always: h.Always, send: func(ctx context.Context, w tell.Word) error {
			secret, err := secretIn(h.SecretFile)
			if err != nil {
				return err
			}
			return tell.Hook{Client: s.http, URL: h.Address, Secret: []byte(secret)}.Send(ctx, w)
		}}
	}
	return out
}

func secretIn(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("its secret cannot be read: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// tellLater has all channels told of a domain, once its verdict has lasted.
func (s *Service) tellLater(tx *store.Tx, domainID uint64) error {
	for name := range s.channels() {
		if err := tx.TellLater(domainID, name, s.wall.Now().Add(s.settings.Tell.After)); err != nil {
			return err
		}
	}
	return nil
}

// mostTells is how often it is tried to tell, over about a day.
const mostTells = 20

// runTell tells one channel how a domain stands, if that is something else than it was told last.
func (s *Service) runTell(ctx context.Context, job store.Job) error {
	var t store.Telling
	var d store.Domain
	var z store.Zone
	var last delegation.Report
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if t, err = tx.TellingByID(job.Subject); err != nil {
			return err
		}
		if d, err = tx.DomainByID(t.DomainID); err != nil {
			return err
		}
		if z, err = tx.ZoneByID(d.ZoneID); err == nil {
			last, _, err = tx.LastReport(d.ID)
		}
		return err
	})
	c, known := s.channels()[t.Channel]
	news := delegation.Unheard(last.Deadlines(), t.Deadlines())
	told := delegation.StillAhead(t.Deadlines(), last.Deadlines(), last.CheckedAt)
	switch {
	case store.IsMissing(err) || err == nil && !known: // the zone, or the channel, is gone
		return nil
	case err != nil:
		return err
	case d.Verdict == t.Told && len(news) == 0:
		return nil // it came back to what is known there
	case t.Told == "" && d.Verdict == delegation.Settled && len(news) == 0:
		return s.store.Tx(ctx, func(tx *store.Tx) error { return tx.Told(t.ID, d.Verdict, told) })
	}
	if now := s.wall.Now(); !c.always {
		quiet, _ := tell.ParseQuiet(s.settings.Tell.Quiet.From, s.settings.Tell.Quiet.To, s.settings.Tell.Quiet.Place)
		if until := quiet.Until(now); until.After(now) {
			return jobs.Later{At: until, MadeWay: true}
		}
	}
	name := strings.TrimSuffix(z.Name().String(), ".")
	word := tell.Word{ID: wordID(t, d.Verdict), Domain: name, Verdict: d.Verdict, Before: t.Told, At: last.CheckedAt, SettlesBy: last.SettlesBy, Deadlines: news, Findings: last.Findings}
	if last.Verdict != d.Verdict {
		word.Findings = nil
	}
	if last.Arrival != nil {
		word.Findings = slices.Concat(word.Findings, last.Arrival.Findings)
	}
	calling, cancel := context.WithTimeout(ctx, s.settings.Request)
	defer cancel()
	if err := c.send(calling, word); err != nil {
		return s.notTold(ctx, t, name, err)
	}
	now := delegation.Verdict("")
	err = s.store.Tx(ctx, func(tx *store.Tx) error {
		after, err := tx.DomainByID(d.ID)
		if err != nil {
			return err
		}
		now = after.Verdict
		if err := tx.Told(t.ID, d.Verdict, told); err != nil {
			return err
		}
		return logbook.Log(tx, "service", "domain.told", name+".", t.Channel+": "+strings.TrimPrefix(word.Subject(), name+" is "))
	})
	if err == nil && now != d.Verdict { // it changed while this was told
		return jobs.Later{At: s.wall.Now().Add(s.settings.Tell.After), MadeWay: true}
	}
	return err
}

// wordID is the same for each attempt to tell the same.
func wordID(t store.Telling, verdict delegation.Verdict) string {
	since := int64(0)
	if t.ToldAt != nil {
		since = t.ToldAt.UnixMilli()
	}
	return fmt.Sprintf("%d-%d-%s", t.ID, since, verdict)
}

// notTold tries again later, ever more seldom, and gives up in the end.
func (s *Service) notTold(ctx context.Context, t store.Telling, name string, reason error) error {
	tries := t.Tries + 1
	err := s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if tries == 1 || tries == mostTells {
			detail := fmt.Sprintf("%s: %s", t.Channel, reason)
			if tries == mostTells {
				detail += "; given up until the next change"
			}
			if err := logbook.Log(tx, "service", "domain.untold", name+".", detail); err != nil {
				return err
			}
		}
		return tx.NotTold(t.ID, tries%mostTells, reason.Error())
	})
	if err != nil || tries >= mostTells {
		return err
	}
	rest := 2 * time.Second
	for range min(tries-1, 9) {
		rest *= 3
	}
	return jobs.Later{At: s.wall.Now().Add(min(rest, 2*time.Hour)), MadeWay: true}
}

// Channels lists the ways to tell.
func (s *Service) Channels() []wire.ChannelView {
	out := []wire.ChannelView{}
	for _, m := range s.settings.Tell.Mail {
		out = append(out, wire.ChannelView{Name: m.Name, Kind: "mail", To: strings.Join(m.To, ", ")})
	}
	for _, h := range s.settings.Tell.Hooks {
		out = append(out, wire.ChannelView{Name: h.Name, Kind: "webhook", To: h.Address})
	}
	return out
}

// TryChannel sends a test over a channel, at once.
func (s *Service) TryChannel(ctx context.Context, name string) error {
	c, ok := s.channels()[name]
	if !ok {
		return wire.Problemf(wire.Missing, "There is no channel %q. The settings name them, below tell.", name)
	}
	ctx, cancel := context.WithTimeout(ctx, s.settings.Request)
	defer cancel()
	now := s.world.Now()
	if err := c.send(ctx, tell.Word{ID: fmt.Sprintf("test-%d", now.UnixNano()), Test: true, At: now}); err != nil {
		return wire.Problemf(wire.Outside, "Nothing could be told over %s: %s.", name, err)
	}
	s.Logbook.Note(ctx, "channel.tried", name, "a test was sent")
	return nil
}
