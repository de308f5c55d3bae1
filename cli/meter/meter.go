// Package meter shows how far something is that takes over a second, and how long it will take: on a terminal as one line that moves, in a
// pipe as plain lines.
package meter

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"beacon/cli/screen"
)

// What passes before the first showing, and between two of them on a terminal and in a pipe.
const (
	first    = time.Second
	onScreen = 100 * time.Millisecond
	inPipe   = 5 * time.Second
)

// cells is the length of the bar on a terminal, in characters.
const cells = 30

// Meter shows how far one piece of work is. It is safe for concurrent use.
type Meter struct {
	mu       sync.Mutex
	out      io.Writer
	terminal bool
	what     string
	now      func() time.Time
	began    time.Time
	shown    time.Time
	drawn    bool // a line is on the terminal that has to be cleared
}

// New returns a meter for what is done, such as "syncs", that shows on out.
func New(out io.Writer, what string) *Meter {
	return at(out, screen.IsTerminal(out), what, time.Now)
}

func at(out io.Writer, terminal bool, what string, now func() time.Time) *Meter {
	return &Meter{out: out, terminal: terminal, what: what, now: now, began: now()}
}

// At means that so much of the whole is done. An unknown whole is 0. more is put behind it, and may be empty.
func (m *Meter) At(done, of int64, more string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := m.now()
	pause := inPipe
	if m.terminal {
		pause = onScreen
	}
	if now.Sub(m.began) < first || !m.shown.IsZero() && now.Sub(m.shown) < pause {
		return
	}
	m.shown = now
	text := m.what
	if of > 0 {
		done = min(done, of)
		if m.terminal {
			full := int(done * cells / of)
			text += " " + strings.Repeat("█", full) + strings.Repeat("░", cells-full)
		} else {
			text += ":"
		}
		text += fmt.Sprintf(" %d of %d", done, of)
		if done > 0 && done < of {
			left := time.Duration(float64(now.Sub(m.began)) * float64(of-done) / float64(done))
			text += fmt.Sprintf(", about %s left", max(left, time.Second).Round(time.Second))
		}
	} else {
		text += fmt.Sprintf(": %s so far", now.Sub(m.began).Round(time.Second))
	}
	if more != "" {
		text += ", " + more
	}
	if m.terminal {
		m.drawn = true
		fmt.Fprint(m.out, screen.Rewrite, text)
		return
	}
	fmt.Fprintln(m.out, text)
}

// Clear removes the moving line from the terminal, so that something else can be printed.
func (m *Meter) Clear() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.drawn {
		fmt.Fprint(m.out, screen.Rewrite)
		m.drawn = false
	}
}

// While shows how long do takes, as far as nothing more is known of it.
func (m *Meter) While(do func() error) error {
	done := make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		for tick := time.NewTicker(onScreen); ; {
			select {
			case <-done:
				tick.Stop()
				return
			case <-tick.C:
				m.At(0, 0, "")
			}
		}
	})
	err := do()
	close(done)
	group.Wait()
	m.Clear()
	return err
}
