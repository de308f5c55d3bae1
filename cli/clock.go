package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/core/delegation"
	"beacon/wire"
)

func (a *app) clockCommand() *cobra.Command {
	c := &cobra.Command{Use: "clock", Short: "Show simulated time and skip it (demo only)"}
	c.AddCommand(a.clockShow(), a.clockSkip())
	return c
}

func (a *app) clockShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Show what time it is in the practice world", Example: "  beacon clock show", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			var now wire.ClockNow
			if err := ask(a, wire.ShowClock, wire.None{}, &now); err != nil {
				return err
			}
			return a.show(now, func() { a.showClock(now) })
		}}
}

func (a *app) clockSkip() *cobra.Command {
	var settled string
	c := &cobra.Command{Use: "skip [DURATION]", Short: "Skip simulated time; everything that is due in between is done in order", Args: cobra.MaximumNArgs(1),
		Example: "  beacon clock skip 48h\n  beacon clock skip 2d\n  beacon clock skip --settled saltmarsh-ferries.example",
		RunE: func(_ *cobra.Command, args []string) error {
			if (len(args) == 1) == (settled != "") {
				return misuse("Give a duration, such as 48h or 2d, or --settled DOMAIN.")
			}
			var from wire.ClockNow
			if err := ask(a, wire.ShowClock, wire.None{}, &from); err != nil {
				return err
			}
			until, err := a.skipTo(args, settled, from)
			if err != nil {
				return err
			}
			began := time.Now()
			now, err := a.skip(from.World, until)
			if err != nil {
				return err
			}
			return a.show(now, func() {
				a.printf("%s of simulated time skipped in %.1f s.\n", span(now.World.Sub(from.World)), time.Since(began).Seconds())
				a.showClock(now)
			})
		}}
	c.Flags().StringVar(&settled, "settled", "", "skip to the time by which this domain settles")
	return c
}

// skipTo returns the simulated time to which one is to skip.
func (a *app) skipTo(args []string, settled string, from wire.ClockNow) (time.Time, error) {
	if settled == "" {
		d, err := parseSpan(args[0])
		return from.World.Add(d), err
	}
	name, err := parseName(settled)
	if err != nil {
		return time.Time{}, err
	}
	var r delegation.Report
	if err := ask(a, wire.ShowReport, wire.None{}, &r, name); err != nil {
		return time.Time{}, err
	}
	if r.SettlesBy == nil || !r.SettlesBy.After(from.World) {
		return time.Time{}, fmt.Errorf("%s: %s, nothing to skip to. Check it: beacon check %s", plain(name), stateWord(r.Verdict), plain(name))
	}
	return r.SettlesBy.Add(time.Second), nil
}

// skip takes steps until simulated time is there.
func (a *app) skip(from, until time.Time) (now wire.ClockNow, err error) {
	m := meter.New(a.err, "minutes")
	defer m.Clear()
	for !now.Reached {
		if err := ask(a, wire.StepClock, wire.ClockStep{Until: until}, &now); err != nil {
			return now, err
		}
		m.At(int64(now.World.Sub(from)/time.Minute), int64(until.Sub(from)/time.Minute), now.World.UTC().Format(time.DateTime))
	}
	return now, nil
}

func (a *app) showClock(now wire.ClockNow) {
	if now.Rate == 1 {
		a.printf("%s, as fast as real time\n", now.World.UTC().Format(time.DateTime))
		return
	}
	a.printf("%s, %g times as fast as real time\n", now.World.UTC().Format(time.DateTime), now.Rate)
}

// parseSpan reads a duration as Go writes it, or in days.
func parseSpan(text string) (d time.Duration, err error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		var n float64
		n, err = strconv.ParseFloat(days, 64)
		d = time.Duration(n * float64(24*time.Hour))
	} else {
		d, err = time.ParseDuration(text)
	}
	if err != nil || d <= 0 {
		return 0, misuse("%q is no duration. Write hours or days, such as 36h or 2d.", text)
	}
	return d, nil
}
