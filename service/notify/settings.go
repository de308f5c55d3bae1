package notify

import (
	"net/url"
	"path/filepath"
	"time"

	"beacon/tell"
)

// Settings say who is told when a domain's verdict changes.
type Settings struct {
	Delay time.Duration `yaml:"delay"` // how long a verdict has to last before it is told, real time
	Quiet struct {
		From     string `yaml:"from"` // times of day, such as 22:00
		To       string `yaml:"to"`
		Timezone string `yaml:"timezone"` // such as Europe/Berlin; UTC
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
	Name             string `yaml:"name"`
	Address          string `yaml:"address"`
	SecretFile       string `yaml:"secret_file"`
	IgnoreQuietHours bool   `yaml:"ignore_quiet_hours"` // also in quiet hours
}

// Paths makes the paths of secrets relative to the folder of the settings.
func (t *Settings) Paths(folder string) {
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

// Check reports what is wrong with the settings.
func (t Settings) Check(fail func(string, ...any)) {
	names := map[string]bool{}
	named := func(kind, name string) {
		if name == "" || len(name) > 100 || names[name] {
			fail("notifications.%s: %q: each needs a name of its own", kind, name)
		}
		names[name] = true
	}
	for _, m := range t.Mail {
		named("mail", m.Name)
		for _, a := range append([]string{m.From}, m.To...) {
			if err := tell.CheckAddress(a); err != nil {
				fail("notifications.mail %s: %s", m.Name, err)
			}
		}
		if m.Server == "" || len(m.To) == 0 {
			fail("notifications.mail %s: give server, from and to", m.Name)
		}
	}
	for _, h := range t.Hooks {
		named("webhooks", h.Name)
		if u, err := url.Parse(h.Address); err != nil || u.Host == "" || h.SecretFile == "" {
			fail("notifications.webhooks %s: give an address such as https://program.example/word, and a secret_file", h.Name)
		}
	}
	if _, err := tell.ParseQuiet(t.Quiet.From, t.Quiet.To, t.Quiet.Timezone); err != nil {
		fail("notifications.quiet: %s", err)
	}
}
