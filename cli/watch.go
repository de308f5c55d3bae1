package cli

import (
	"context"
	"fmt"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/wire"
)

func (a *app) watchCommand() *cobra.Command {
	var limit time.Duration
	c := &cobra.Command{
		Use: "watch DOMAIN", Short: "Follow a domain until it has settled", Args: cobra.ExactArgs(1),
		Long: "Follows the checks of a domain and prints whatever changes, until it is settled.\n\n" +
			"Exit codes as those of beacon check, for the last verdict.",
		RunE: func(_ *cobra.Command, args []string) error { return a.watch(args[0], limit) },
	}
	c.Flags().DurationVar(&limit, "limit", 0, "stop after this long; 0 for never")
	return c
}

// news opens the event stream and gives a channel that tells when something happened of which concerns says that it
// matters, and when the stream was opened (again): until then something may have been missed.
func (a *app) news(ctx context.Context, concerns func(wire.Entry) bool) (<-chan struct{}, <-chan error) {
	something, broken := make(chan struct{}, 1), make(chan error, 1)
	tell := func() {
		select {
		case something <- struct{}{}:
		default:
		}
	}
	go func() {
		broken <- a.followEvents(ctx, false, tell, func(e wire.Entry) {
			if concerns(e) {
				tell()
			}
		})
	}()
	return something, broken
}

// quietPause is how long somebody who watches is left without a new look, real time: by itself the service looks ever more seldom at
// what stays wrong.
const quietPause = time.Minute

// strangerPause is how often a domain is looked at that the service does not look after, and so has no events of.
const strangerPause = 2 * time.Second

func (a *app) watch(domain string, limit time.Duration) error {
	name, err := parseName(domain)
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	if limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, limit)
		defer cancel()
	}
	view := watchView{app: a}
	if settled, err := view.look(name); err != nil || settled {
		return err
	}
	something, broken := a.news(ctx, func(e wire.Entry) bool { return e.Subject == name.String() })
	every := time.NewTicker(time.Second)
	defer every.Stop()
	for {
		select {
		case <-something:
		case <-every.C:
			view.tick()
			switch quiet := time.Since(view.read); {
			case view.stranger && quiet < strangerPause, !view.stranger && quiet < quietPause:
				continue
			case !view.stranger:
				if _, _, err := a.check(domain); err != nil {
					a.clearLine()
					return err
				}
			}
		case err := <-broken:
			a.clearLine()
			if ctx.Err() == nil {
				return exit{ExitUnknown, err.Error()}
			}
			return exitFor(view.report.Verdict)
		}
		if settled, err := view.look(name); err != nil || settled {
			return err
		}
	}
}

// watchView is what watching has seen last.
type watchView struct {
	*app
	report   delegation.Report
	clock    wire.ClockNow
	read     time.Time // real time of both
	stranger bool      // the service does not look after this domain
	last     []string
}

// look reads the newest report and shows it.
func (w *watchView) look(domain dnsname.Name) (settled bool, err error) {
	if w.report, w.clock, w.stranger, err = w.app.report(domain); err != nil {
		return false, err
	}
	w.read = time.Now()
	return w.show(), nil
}

// show prints what has changed, and reports whether it is over.
func (w *watchView) show() (settled bool) {
	r, now := w.report, w.clock
	if w.last != nil { // how fast simulated time runs is said once
		now.Rate = 1
	}
	if lines := r.News(); !slices.Equal(lines, w.last) {
		w.clearLine()
		w.printf("%s  %s\n", moment(now.World, now.World), strings.Join(wrap(w.headline(r, now), width-10), "\n          "))
		for _, line := range lines[1:] {
			w.printf("          %s\n", strings.Join(wrap(line, width-12), "\n            "))
		}
		w.last = lines
	}
	return r.Verdict == delegation.Settled
}

// tick shows on a terminal how much is to go.
func (w *watchView) tick() {
	if w.report.SettlesBy == nil || !isTerminal(w.err) {
		return
	}
	world := w.clock.World.Add(time.Duration(float64(time.Since(w.read)) * w.clock.Rate))
	w.clearLine()
	fmt.Fprintf(w.err, "%s  %s to go", moment(world, world), span(w.report.SettlesBy.Sub(world)))
}
