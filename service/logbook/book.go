package logbook

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"beacon/core/access"
	"beacon/looking"
	"beacon/store"
)

// Book is the logbook and the transactions that write it. It is safe for concurrent use.
type Book struct {
	store    *store.Store
	log      *slog.Logger
	feed     *feed
	logged   chan struct{} // told when this instance added lines
	numbered chan struct{} // told when this instance numbered lines
	stopped  chan struct{} // closed when background work ends
	compared time.Time     // when it was looked last whether the database went back

	soonMu sync.Mutex
	soon   []lateLine // of requests that went well, which are logged together
	due    bool       // they are going to be

	lateMu sync.Mutex
	late   []lateLine // that could not be logged while the database was away
	lost   int        // that were too many to keep
}

// lateLine is a line of the logbook that is still to be added.
type lateLine struct {
	at                             time.Time
	actor, action, subject, detail string
}

// mostLate is how many lines are kept while the database is away.
const mostLate = 5000

// New returns the logbook of a database.
func New(db *store.Store, log *slog.Logger) *Book {
	b := &Book{store: db, log: log, feed: newFeed(), logged: make(chan struct{}, 1), numbered: make(chan struct{}, 1), stopped: make(chan struct{})}
	db.OnLog(func() { nudge(b.logged) })
	return b
}

type behalfKey struct{}

// OnBehalf marks a context with the name of who has outside requests made, for their lines in the logbook. It decides nothing.
func OnBehalf(ctx context.Context, name string) context.Context {
	return context.WithValue(ctx, behalfKey{}, name)
}

// soonAfter is how long a line about a request that went well may wait for others, so that they are logged together, real time. What the request changed is logged with what it was made for.
const soonAfter = 50 * time.Millisecond

// NoteRequest writes a line about a request outside that went well, in the name of who had it made: soon, and together with others.
func (b *Book) NoteRequest(ctx context.Context, subject, detail string) {
	b.soonMu.Lock()
	defer b.soonMu.Unlock()
	b.soon = append(b.soon, lateLine{b.store.Now(), Behalf(ctx), "request", subject, detail})
	if !b.due {
		b.due = true
		time.AfterFunc(soonAfter, b.FlushRequests)
	}
}

// FlushRequests logs the lines about requests that wait.
func (b *Book) FlushRequests() {
	b.soonMu.Lock()
	lines := b.soon
	b.soon, b.due = nil, false
	b.soonMu.Unlock()
	if len(lines) == 0 {
		return
	}
	err := b.store.Tx(context.Background(), func(tx *store.Tx) error { return logLate(tx, lines) })
	if store.IsAway(err) {
		for _, l := range lines {
			b.keep(l)
		}
	} else if err != nil {
		b.log.Error("the logbook could not be written", "action", "request", "lines", len(lines), "error", err)
	}
}

// logLate adds lines with their own times.
func logLate(tx *store.Tx, lines []lateLine) error {
	list := make([]store.Line, len(lines))
	for i, l := range lines {
		list[i] = store.Line{At: l.at, Actor: l.actor, Action: l.action, Subject: l.subject, Detail: l.detail}
	}
	return tx.LogAll(list)
}

// Behalf returns the name that OnBehalf marked a context with; without one it is the service.
func Behalf(ctx context.Context) string {
	if name, _ := ctx.Value(behalfKey{}).(string); name != "" {
		return name
	}
	return access.Service.Name
}

// Tx runs do in a transaction and explains what goes wrong.
func (b *Book) Tx(ctx context.Context, do func(*store.Tx) error) error {
	return Explain(b.store.Tx(ctx, do))
}

// Look runs do in a transaction that can only read: whatever is written in it fails.
func (b *Book) Look(ctx context.Context, do func(*store.Tx) error) error {
	return Explain(b.store.Look(ctx, do))
}

// Log adds a line to the transaction that does what the line says.
func Log(tx *store.Tx, actor, action, subject, detail string) error {
	return tx.Log(actor, action, subject, detail)
}

// LogAll adds lines to the transaction that does what they say.
func LogAll(tx *store.Tx, lines []store.Line) error { return tx.LogAll(lines) }

// Now returns the time that all instances share.
func (b *Book) Now() time.Time { return b.store.Now() }

// Note writes a line into the logbook by itself, for things that happened outside and cannot be undone.
func (b *Book) Note(ctx context.Context, actor, action, subject, detail string) {
	if looking.Is(ctx) { // what only looks leaves no line
		b.log.Info("noted", "action", action, "subject", subject, "detail", detail)
		return
	}
	err := b.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.Log(actor, action, subject, detail) })
	if store.IsAway(err) {
		b.keep(lateLine{b.store.Now(), actor, action, subject, detail})
		return
	}
	if err != nil {
		b.log.Error("the logbook could not be written", "action", action, "subject", subject, "error", err)
	}
}

// keep keeps a line until the database is back.
func (b *Book) keep(line lateLine) {
	b.lateMu.Lock()
	defer b.lateMu.Unlock()
	if len(b.late) < mostLate {
		b.late = append(b.late, line)
	} else {
		b.lost++
	}
}

// Flush logs the lines that could not be logged while the database was away, with their own times. It returns how many those are, and
// how many were lost.
func (b *Book) Flush(ctx context.Context) (late, lost int) {
	b.lateMu.Lock()
	lines := b.late
	lost = b.lost
	b.late, b.lost = nil, 0
	b.lateMu.Unlock()
	for some := range slices.Chunk(lines, 200) {
		err := b.store.Tx(ctx, func(tx *store.Tx) error { return logLate(tx, some) })
		if err != nil {
			for _, l := range some {
				b.keep(l)
			}
			continue
		}
		late += len(some)
	}
	return late, lost
}
