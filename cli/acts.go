package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/screen"
	"beacon/core/dnsname"
	"beacon/wire"
)

func (a *app) actCommand() *cobra.Command {
	c := &cobra.Command{Use: "act", Short: "Show delegations and retirements, with the requests that they made"}
	list := &cobra.Command{Use: "list [DOMAIN]", Short: "List acts, newest first", Args: cobra.MaximumNArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		list := wire.ListActs.With("limit", "50")
		if len(args) == 1 {
			name, err := dnsname.Parse(args[0])
			if err != nil {
				return misuse("%s", err)
			}
			list = list.With("subject", name.String())
		}
		var p wire.Page[wire.Act]
		if err := ask(a, list, wire.None{}, &p); err != nil {
			return err
		}
		return a.show(p.Items, func() {
			if len(p.Items) == 0 {
				a.printf("No acts yet.\n")
				return
			}
			var rows [][]string
			for _, act := range p.Items {
				rows = append(rows, []string{strconv.FormatUint(act.ID, 10), act.CreatedAt.Local().Format("2006-01-02 15:04:05"), act.Kind, strings.TrimSuffix(act.Subject, "."), string(act.State), act.RequestedBy})
			}
			a.table([]string{"ACT", "AT", "KIND", "SUBJECT", "STATE", "BY"}, rows)
		})
	}}
	show := &cobra.Command{Use: "show NUMBER", Short: "Show an act and what became of its requests; follow it while it runs", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		id, err := strconv.ParseUint(args[0], 10, 64)
		if err != nil {
			return misuse("%q is no number of an act; beacon act list shows them", args[0])
		}
		return a.followAct(id)
	}}
	var reason string
	cancel := &cobra.Command{Use: "cancel NUMBER", Short: "Cancel an act that has not ended; requests that were sent stay sent", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		id, err := strconv.ParseUint(args[0], 10, 64)
		if err != nil {
			return misuse("%q is no number of an act; beacon act list shows them", args[0])
		}
		var act wire.Act
		if err := ask(a, wire.CancelAct, wire.Cancellation{Reason: reason}, &act, id); err != nil {
			return err
		}
		return a.show(act, func() { a.showAct(act) })
	}}
	cancel.Flags().StringVar(&reason, "reason", "", "reason, for the logbook")
	c.AddCommand(list, show, cancel)
	return c
}

// followAct waits until an act has ended, and shows it.
func (a *app) followAct(id uint64) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var act wire.Act
	read := func() error { return ask(a, wire.ShowAct, wire.None{}, &act, id) }
	if err := read(); err != nil {
		return err
	}
	if !act.State.Ended() {
		something, broken := a.news(ctx, func(e wire.Entry) bool { return e.Subject == act.Subject })
		for !act.State.Ended() {
			select {
			case <-something:
			case err := <-broken:
				return err
			}
			if err := read(); err != nil {
				return err
			}
			if isTerminal(a.err) && !act.State.Ended() {
				fmt.Fprintf(a.err, "%sact %d: %s %s", screen.Rewrite, act.ID, act.State, act.Problem)
			}
		}
		if isTerminal(a.err) {
			a.clearLine()
		}
	}
	if err := a.show(act, func() { a.showAct(act) }); err != nil {
		return err
	}
	if act.State != wire.ActDone {
		return exit{ExitFailed, ""}
	}
	return nil
}

func (a *app) showAct(act wire.Act) {
	a.printf("Act %d: %s %s: %s.\n", act.ID, act.Kind, strings.TrimSuffix(act.Subject, "."), act.State)
	if act.Message != "" {
		for _, line := range wrap(act.Message, width-2) {
			a.printf("  %s\n", line)
		}
	}
	if r := act.Retrying; r != nil {
		for _, line := range wrap(fmt.Sprintf("Waiting since %s, next try by %s: %s", r.Since.Local().Format(time.TimeOnly), r.NextTry.Local().Format(time.TimeOnly), r.Problem), width-2) {
			a.printf("  %s\n", line)
		}
		a.printf("  It goes on by itself. To end it: beacon act cancel %d\n", act.ID)
	}
	for _, r := range act.Requests {
		text := fmt.Sprintf("request %d: %s, %s", r.ID, r.Kind, r.State)
		if r.Problem != "" {
			text += ": " + r.Problem
		}
		for i, line := range wrap(text, width-4) {
			a.printf("  %s%s\n", []string{"", "  "}[min(i, 1)], line)
		}
	}
	switch {
	case act.State != wire.ActDone:
		a.findings(act.Findings)
	case act.DS != nil:
		a.showDS(*act.DS)
	case act.Lock != nil:
		now := "none"
		if len(act.Lock.Before) > 0 {
			now = strings.Join(act.Lock.Before, ", ")
		}
		a.printf("  Statuses now: %s\n", now)
	case act.Delegated != nil:
		a.showDelegated(*act.Delegated, false)
	case act.Retired != nil && len(act.Retired.Left) > 0:
		a.printf("  It is still placed at %s.\n", strings.Join(act.Retired.Left, ", "))
	case act.Retired != nil:
		a.printf("  It is placed at no other provider.\n")
	}
}
