package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/wire"
)

func (a *app) hostCommand() *cobra.Command {
	c := &cobra.Command{Use: "host", Short: "Manage dynamic hosts: names that follow a reported address"}
	c.AddCommand(a.hostAddCommand(), a.hostListCommand(), a.hostShowCommand(), a.hostSetCommand(), a.hostRemoveCommand(), a.hostReportCommand())
	return c
}

func (a *app) hostAddCommand() *cobra.Command {
	n := wire.NewHost{V4: true, V6: true}
	var follow followFlags
	var policy policyFlags
	var parameters parameterFlags
	var tokenFile string
	c := &cobra.Command{
		Use: "add NAME", Short: "Add a dynamic host and create its token", Args: cobra.ExactArgs(1),
		Long: "Add a dynamic host, and print the token that may report its address and nothing else. The token is shown only once.\n" +
			"With --location, the host follows the uplinks of a location, and gets no token of its own.",
		Example: "  beacon host add pier-cam.saltmarsh-ferries.example --token-file pier-cam.token\n" +
			"  beacon host add tide-gauge.saltmarsh-ferries.example --location pier --interface ::a:1",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := follow.into(cmd, &n.V4, &n.V6, &n.TTL, &n.Below); err != nil {
				return err
			}
			if err := policy.into(cmd, &n.Policy); err != nil {
				return err
			}
			if err := parameters.into(&n.Parameters); err != nil {
				return err
			}
			name, err := dnsname.Parse(args[0])
			if err != nil {
				return misuse("%s", err)
			}
			n.Name = name
			if _, err := os.Lstat(tokenFile); tokenFile != "" && err == nil {
				return misuse("--token-file: %s is there already, and may hold a token that is in use. Nothing changed", tokenFile)
			}
			var added wire.HostAdded
			if err := ask(a, wire.AddHost, n, &added); err != nil {
				return err
			}
			if tokenFile != "" && added.Token != "" {
				if err := keepToken(tokenFile, added.Token); err != nil {
					return fmt.Errorf("%s was added, but its token could not be stored: %w; create another one: beacon token renew %[1]s", plain(name), err)
				}
			}
			return a.show(added, func() { a.showAdded(added, tokenFile) })
		},
	}
	follow.add(c, "60")
	c.Flags().StringVar(&n.Location, "location", "", "follow the uplinks of this location")
	c.Flags().StringVar(&tokenFile, "token-file", "", "write the token to this file instead of showing it")
	policy.add(c)
	parameters.add(c)
	return c
}

// showAdded says what a new host reports with.
func (a *app) showAdded(added wire.HostAdded, tokenFile string) {
	if added.Location != "" {
		a.printf("%s follows location %s now.\nSee its uplinks: beacon location show %[2]s\n", plain(added.Name), added.Location)
		return
	}
	a.printf("%s follows the address that is reported for it.\n", plain(added.Name))
	if tokenFile != "" {
		a.printf("Its token is in %s. Report from that machine:\n", tokenFile)
		a.printf("  beacon host report --host %s --token-file %s\n", plain(added.Name), tokenFile)
		return
	}
	a.printf("Its token, which can report this address and nothing else, is shown this once:\n  %s\n", added.Token)
	a.printf("A machine or router reports its address with it:\n  curl -u %s:TOKEN '%s/api/v1/report'\n", plain(added.Name), strings.TrimSuffix(a.address, "/"))
}

func (a *app) hostListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List dynamic hosts with their addresses", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListHosts)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list) == 0 {
				a.printf("No name follows a reported address yet. Add one: beacon host add NAME\n")
				return
			}
			a.hostTable(list)
		})
	}}
}

// hostTable lists hosts with their states.
func (a *app) hostTable(list []wire.HostView) {
	var rows [][]string
	for _, h := range list {
		seen := "never"
		if h.SeenAt != nil {
			seen = h.SeenAt.Local().Format("2006-01-02 15:04")
		}
		state := strings.ReplaceAll(string(h.Status), "-", " ")
		if text := progress(h.Last); h.Last != nil && text != "visible" {
			state += "; last change " + text
		}
		rows = append(rows, []string{plain(h.Name), hostAt(h), seen, state})
	}
	a.table([]string{"HOST", "ADDRESS", "LAST REPORTED", "STATE"}, rows)
}

func hostAt(h wire.HostView) string {
	at := strings.TrimSpace(h.V4 + " " + h.V6)
	if at == "" {
		return "not reported yet"
	}
	return at
}

// progress says in a few words how far a report has come.
func progress(r *wire.ReportView) string {
	switch {
	case r == nil:
		return "none"
	case r.Outcome == dynaddr.Refused:
		return "refused: " + r.Reason
	case r.Outcome == dynaddr.Held:
		return "held: " + r.Reason
	case r.Overtaken:
		return "overtaken by a newer one"
	case len(r.Arrivals) == 0:
		return "kept; the zone is at no provider yet"
	}
	written, visible := 0, 0
	for _, v := range r.Arrivals {
		switch {
		case v.VisibleAt != nil:
			visible++
		case v.WrittenAt != nil:
			written++
		}
		if v.Problem != "" && v.VisibleAt == nil {
			return "held up at " + v.Account + ": " + v.Problem
		}
	}
	switch {
	case visible == len(r.Arrivals):
		return "visible"
	case written+visible == len(r.Arrivals):
		return "written, not visible yet"
	}
	return "accepted, not written yet"
}

func (a *app) hostShowCommand() *cobra.Command {
	var wait time.Duration
	c := &cobra.Command{
		Use: "show NAME", Short: "Show a dynamic host and how far each address has come", Args: cobra.ExactArgs(1),
		Long: "Show a dynamic host, and how far each change of its address has come.\n\n" +
			"With --wait, the exit code is 2 where what was reported last is not visible at every nameserver in time.",
		Example: "  beacon host show pier-cam.saltmarsh-ferries.example --wait 30s",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var h wire.HostView
			for until := time.Now().Add(wait); ; time.Sleep(hostPause) {
				h = wire.HostView{}
				if err := ask(a, wire.ShowHost, wire.None{}, &h, name); err != nil {
					return err
				}
				if arrived(h) || !time.Now().Before(until) {
					break
				}
			}
			var now wire.ClockNow
			if err := ask(a, wire.ShowClock, wire.None{}, &now); err != nil {
				return err
			}
			if err := a.show(h, func() { a.showHost(h, now) }); err != nil {
				return err
			}
			if wait > 0 && !arrived(h) {
				return exit{ExitSettling, fmt.Sprintf("%s is not visible everywhere after %s", plain(h.Name), wait)}
			}
			return nil
		},
	}
	c.Flags().DurationVar(&wait, "wait", 0, "wait until every nameserver serves the last reported address, at most this long")
	return c
}

// hostPause is how long somebody who waits for a host is left without a new look, real time.
const hostPause = 200 * time.Millisecond

// arrived reports whether the last address that was accepted is visible wherever it is to be.
func arrived(h wire.HostView) bool {
	i := slices.IndexFunc(h.Reports, func(r wire.ReportView) bool { return r.Outcome == dynaddr.Accepted })
	return i < 0 || !slices.ContainsFunc(h.Reports[i].Arrivals, func(v wire.ArrivalView) bool { return v.VisibleAt == nil })
}

func (a *app) showHost(h wire.HostView, now wire.ClockNow) {
	a.printf("%s\n", a.paint(bold, plain(h.Name)))
	a.printf("  address    %s   TTL %d, in zone %s\n", hostAt(h), h.TTL, plain(h.Zone))
	a.printf("  state      %s\n", hostState(h, now))
	if h.Location != "" {
		a.printf("  location   %s, uplinks: %s\n", h.Location, uplinksText(h.Uplinks))
	}
	if len(h.Reports) == 0 {
		a.printf("  nothing was reported yet\n")
		return
	}
	for _, r := range h.Reports {
		at := strings.TrimSpace(r.V4 + " " + r.V6)
		a.printf("\n  %s  %s  %s\n", r.ReportedAt.Local().Format("2006-01-02 15:04:05.000"), a.paint(bold, string(r.Outcome)), at)
		if r.Outcome == dynaddr.Refused || r.Outcome == dynaddr.Held {
			times := ""
			if r.Times > 1 {
				times = fmt.Sprintf(" (%d times in a row)", r.Times)
			}
			a.printf("    from %s: %s%s\n", r.Peer, r.Reason, times)
			continue
		}
		if r.Reason != "" {
			a.printf("    %s\n", r.Reason)
		}
		if len(r.Arrivals) == 0 {
			a.printf("    %s\n", progress(&r))
		}
		for _, v := range r.Arrivals {
			line := "    " + v.Account + ":  accepted " + after(r.ReportedAt, r.AcceptedAt)
			line += ",  written " + after(r.ReportedAt, v.WrittenAt) + ",  visible " + after(r.ReportedAt, v.VisibleAt)
			if r.Overtaken && v.VisibleAt == nil {
				line += " (overtaken)"
			}
			a.printf("%s\n", line)
			if v.Problem != "" {
				a.printf("      %s\n", v.Problem)
			}
			if v.SettlesBy != nil && v.SettlesBy.After(now.World) {
				a.printf("      the old address expires from caches by %s, in %s\n", moment(*v.SettlesBy, now.World), span(v.SettlesBy.Sub(now.World)))
			}
		}
	}
}

// hostState says how a host is, and since when or until when.
func hostState(h wire.HostView, now wire.ClockNow) string {
	text := strings.ReplaceAll(string(h.Status), "-", " ")
	switch {
	case h.Silent != nil:
		text += " since " + moment(*h.Silent, now.World)
	case h.Until != nil:
		text += fmt.Sprintf(": %s is taken at %s, in %s", strings.TrimSpace(h.Waiting+" "), moment(*h.Until, now.World), span(max(h.Until.Sub(now.World), 0)))
	case h.Since != nil:
		text += "; this address since " + moment(*h.Since, now.World)
	}
	if h.Uplink != "" && h.Location != "" {
		text += ", by uplink " + h.Uplink
	}
	return text
}

// after returns how long after a report something happened.
func after(reported time.Time, t *time.Time) string {
	if t == nil {
		return "not yet"
	}
	d := t.Sub(reported)
	if d < 10*time.Second {
		return fmt.Sprintf("+%d ms", d.Milliseconds())
	}
	return "+" + span(d)
}

func (a *app) hostRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "Remove a dynamic host and revoke its token", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		name, err := parseName(args[0])
		if err != nil {
			return err
		}
		var h wire.HostView
		if err := ask(a, wire.ShowHost, wire.None{}, &h, name); err != nil {
			return err
		}
		if err := a.agreed(yes, "Remove dynamic host "+plain(name)+"?"); err != nil {
			return err
		}
		if err := ask(a, wire.RemoveHost, wire.None{}, nil, name); err != nil {
			return err
		}
		return a.show(map[string]any{"name": name, "zone": h.Zone, "removed": true}, func() {
			a.printf("Removed %s, and revoked its token. The next sync of %s writes the desired records again.\n", plain(name), plain(h.Zone))
		})
	}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
