package notify

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"beacon/clock"
	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/tell"
	"beacon/wire"
)

// channel is one way to tell.
type channel struct {
	name   string
	send   func(context.Context, tell.Word) error
	always bool
}

// News is how a domain is, as it is told.
type News struct {
	Domain  dnsname.Name
	Verdict delegation.Verdict
	Last    delegation.Report // of the newest check
	Asked   string            // what a handover asks of a user, in words; empty for nothing
	Silent  []string          // dynamic hosts that have reported nothing for too long
}

// longestOpen is how much is kept of what was told beside the verdict, in octets.
const longestOpen = 200

// open is what waits beside the verdict, as it is kept.
func (n News) open() string {
	text := n.Asked
	if len(n.Silent) > 0 {
		text = strings.TrimPrefix(text+"; silent: "+strings.Join(n.Silent, ", "), "; ")
	}
	if len(text) > longestOpen {
		return fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
	}
	return text
}

// Parts are what a Notifier works with.
type Parts struct {
	Settings Settings
	Store    *store.Store
	Logbook  *logbook.Book
	World    *clock.World
	Door     *reach.Door
	HTTP     *http.Client
	Timeout  time.Duration // of one attempt, real time
	// News returns how a domain is now.
	News func(tx *store.Tx, domainID uint64) (News, error)
}

// Notifier notifies users and programs when the verdict of a domain changes. It is safe for concurrent use.
type Notifier struct {
	settings Settings
	store    *store.Store
	logbook  *logbook.Book
	world    *clock.World
	door     *reach.Door
	http     *http.Client
	timeout  time.Duration
	news     func(*store.Tx, uint64) (News, error)
}

// New returns a Notifier.
func New(p Parts) *Notifier {
	return &Notifier{settings: p.Settings, store: p.Store, logbook: p.Logbook, world: p.World, door: p.Door, http: p.HTTP, timeout: p.Timeout, news: p.News}
}

// channels returns the ways to tell, by name. Secrets are read when they are used, so that a new one counts at once.
func (n *Notifier) channels() map[string]channel {
	out := map[string]channel{}
	for _, m := range n.settings.Mail {
		out[m.Name] = channel{name: m.Name, send: func(ctx context.Context, w tell.Word) error {
			password, err := secretIn(m.PasswordFile)
			if err != nil {
				return err
			}
			return tell.Mail{Door: n.door, Server: m.Server, From: m.From, To: m.To, User: m.User, Password: password, Plain: m.Plain}.Send(ctx, w)
		}}
	}
	for _, h := range n.settings.Hooks {
		out[h.Name] = channel{name: h.Name, always: h.IgnoreQuietHours, send: func(ctx context.Context, w tell.Word) error {
			secret, err := secretIn(h.SecretFile)
			if err != nil {
				return err
			}
			return tell.Hook{Client: n.http, URL: h.Address, Secret: []byte(secret)}.Send(ctx, w)
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

// TellLater has all channels told of a domain, once its verdict has lasted.
func (n *Notifier) TellLater(tx *store.Tx, domainID uint64) error {
	for name := range n.channels() {
		if err := tx.TellLater(domainID, name, n.store.Now().Add(n.settings.Delay)); err != nil {
			return err
		}
	}
	return nil
}

// mostTells is how often it is tried to tell, over about a day.
const mostTells = 20

// RunTell notifies one channel how a domain stands, if that is something else than it was told last.
func (n *Notifier) RunTell(ctx context.Context, job store.Job) error {
	var t store.Telling
	var now News
	err := n.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if t, err = tx.TellingByID(job.Subject); err != nil {
			return err
		}
		now, err = n.news(tx, t.DomainID)
		return err
	})
	c, known := n.channels()[t.Channel]
	news := delegation.Unheard(now.Last.Deadlines(), t.Deadlines())
	told := delegation.StillAhead(t.Deadlines(), now.Last.Deadlines(), now.Last.CheckedAt)
	switch {
	case store.IsMissing(err) || err == nil && !known: // the zone, or the channel, is gone
		return nil
	case err != nil:
		return err
	case now.Verdict == t.Told && len(news) == 0 && now.open() == t.Asked:
		return nil // it came back to what is known there
	case (t.Told == "" && now.Verdict == delegation.Settled || now.Verdict == t.Told) && len(news) == 0 && now.open() == "":
		return n.store.Tx(ctx, func(tx *store.Tx) error { return tx.Told(t.ID, now.Verdict, "", told) })
	}
	if at := n.store.Now(); !c.always {
		quiet, _ := tell.ParseQuiet(n.settings.Quiet.From, n.settings.Quiet.To, n.settings.Quiet.Timezone)
		if until := quiet.Until(at); until.After(at) {
			return jobs.Later{At: until, MadeWay: true}
		}
	}
	name := strings.TrimSuffix(now.Domain.String(), ".")
	word := tell.Word{ID: wordID(t, now), Domain: name, Verdict: now.Verdict, Before: t.Told, At: now.Last.CheckedAt, SettlesBy: now.Last.SettlesBy, Deadlines: news, Asked: now.Asked, Silent: now.Silent, Findings: now.Last.Findings}
	if now.Last.Verdict != now.Verdict {
		word.Findings = nil
	}
	if now.Last.Arrival != nil {
		word.Findings = slices.Concat(word.Findings, now.Last.Arrival.Findings)
	}
	calling, cancel := context.WithTimeout(ctx, n.timeout)
	defer cancel()
	if err := c.send(calling, word); err != nil {
		return n.notTold(ctx, t, name, err)
	}
	var after News
	err = n.store.Tx(ctx, func(tx *store.Tx) error {
		if after, err = n.news(tx, t.DomainID); err != nil {
			return err
		}
		if err := tx.Told(t.ID, now.Verdict, now.open(), told); err != nil {
			return err
		}
		return logbook.Log(tx, "service", "notification.sent", name+".", t.Channel+": "+strings.TrimPrefix(word.Subject(), name+" is "))
	})
	if err == nil && (after.Verdict != now.Verdict || after.open() != now.open()) { // it changed while this was told
		return jobs.Later{At: n.store.Now().Add(n.settings.Delay), MadeWay: true}
	}
	return err
}

// wordID is the same for each attempt to tell the same.
func wordID(t store.Telling, now News) string {
	since := int64(0)
	if t.ToldAt != nil {
		since = t.ToldAt.UnixMilli()
	}
	if open := now.open(); open != "" {
		return fmt.Sprintf("%d-%d-%s-%x", t.ID, since, now.Verdict, sha256.Sum256([]byte(open)))[:64]
	}
	return fmt.Sprintf("%d-%d-%s", t.ID, since, now.Verdict)
}

// notTold tries again later, ever more seldom, and gives up in the end.
func (n *Notifier) notTold(ctx context.Context, t store.Telling, name string, reason error) error {
	tries := t.Tries + 1
	err := n.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if tries == 1 || tries == mostTells {
			detail := fmt.Sprintf("%s: %s", t.Channel, reason)
			if tries == mostTells {
				detail += "; given up until the next change"
			}
			if err := logbook.Log(tx, "service", "notification.failed", name+".", detail); err != nil {
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
	return jobs.Later{At: n.store.Now().Add(min(rest, 2*time.Hour)), MadeWay: true}
}

// Channels lists the ways to tell.
func (n *Notifier) Channels(by access.Caller) ([]wire.ChannelView, error) {
	if err := wire.Permit(by, access.See, access.Everything); err != nil {
		return nil, err
	}
	out := []wire.ChannelView{}
	for _, m := range n.settings.Mail {
		out = append(out, wire.ChannelView{Name: m.Name, Kind: "mail", To: strings.Join(m.To, ", ")})
	}
	for _, h := range n.settings.Hooks {
		out = append(out, wire.ChannelView{Name: h.Name, Kind: "webhook", To: h.Address})
	}
	return out, nil
}

// TryChannel sends a test over a channel, at once.
func (n *Notifier) TryChannel(ctx context.Context, by access.Caller, name string) error {
	if err := wire.Permit(by, access.Operate, access.Everything); err != nil {
		return err
	}
	c, ok := n.channels()[name]
	if !ok {
		return wire.Problemf(wire.NotFound, "There is no channel %q. The settings name channels under notifications.", name)
	}
	ctx, cancel := context.WithTimeout(ctx, n.timeout)
	defer cancel()
	now := n.world.Now()
	if err := c.send(ctx, tell.Word{ID: fmt.Sprintf("test-%d", now.UnixNano()), Test: true, At: now}); err != nil {
		return wire.Problemf(wire.UpstreamFailed, "Channel %s: test not delivered: %s. Check notifications in the settings.", name, err)
	}
	n.logbook.Note(ctx, by.Name, "channel.tested", name, "a test was sent")
	return nil
}
