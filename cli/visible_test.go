package cli

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"beacon/core/finding"
	"beacon/core/wording"
	"beacon/wire"
)

// Whatever a service returns that others wrote, none of it reaches the terminal as it is: not in tables, documents or errors.
func TestTextsFromOutsideAreMadeVisible(t *testing.T) {
	for _, attack := range []string{"\x1b[2J\x1b[H", "\x1b]0;owned\x07", "\u009b2J", "\u202egpj.exe", "x\rSETTLED", "\x00\x7f\u2066\ufeff"} {
		said := "before " + attack + " after"
		replies := map[string]any{
			"GET /zones":                wire.Page[wire.ZoneView]{Items: []wire.ZoneView{{Name: domain, Description: said, Placements: []wire.ZonePlacement{}}}},
			"GET /accounts":             wire.Page[wire.AccountView]{Items: []wire.AccountView{{Account: wire.Account{Name: "heron-main", Kind: said, Address: said}}}},
			"GET /logbook":              wire.Page[wire.Entry]{Items: []wire.Entry{{At: time.Now(), Text: said, Actor: said, Action: "x", Detail: said}}},
			"POST /domains/a/checks":    problem{Status: 502, Detail: said},
			"GET /acts":                 wire.Page[wire.Act]{Items: []wire.Act{{ID: 1, Kind: "delegate", Subject: said, RequestedBy: said}}},
			"GET /acts/1":               wire.Act{ID: 1, Kind: said, State: wire.ActFailed, Message: said, Findings: []finding.Finding{{Code: "x", Message: said, Remedy: said, Subject: said}}},
			"GET /domains/a.example":    problem{Status: 409, Title: said, Detail: said},
			"GET /zones/a.example":      problem{Status: 409, Title: said, Detail: said},
			"GET /channels":             wire.Page[wire.ChannelView]{Items: []wire.ChannelView{{Name: said, Kind: "mail", To: said}}},
			"GET /users":                wire.Page[wire.UserView]{Items: []wire.UserView{{Name: said}}},
			"GET /zones/a.example/acts": problem{Status: 500, Detail: said},
		}
		for _, args := range [][]string{{"zone", "list"}, {"provider", "list"}, {"logbook"}, {"act", "list"}, {"act", "show", "1"}, {"zone", "show", "a.example"}, {"channel", "list"}, {"user", "list"}, {"check", "a" + attack}} {
			for _, form := range []string{"table", "json"} {
				out, errOut, _ := beacon(t, &answers{replies: replies}, append(args, "-o", form)...)
				for _, text := range []string{out, errOut} {
					at := strings.IndexFunc(text, wording.Hidden)
					assert.Negative(t, at, "%q in %v -o %s: %q", attack, args, form, text)
				}
				assert.NotEmpty(t, out+errOut, "%v", args)
			}
		}
		var log bytes.Buffer
		slog.New(slog.NewTextHandler(&log, nil)).Error(said, "error", said, attack, "value")
		assert.Negative(t, strings.IndexFunc(log.String(), wording.Hidden), "%q in the log: %q", attack, log.String())
	}
}
