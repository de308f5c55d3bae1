package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/core/handover/compare"
	"beacon/core/record"
	"beacon/wire"
)

func (a *app) handoverBeginCommand() *cobra.Command {
	var r wire.HandoverRequest
	var grace time.Duration
	var allow []string
	var yes bool
	c := &cobra.Command{Use: "begin DOMAIN...", Short: "Begin to move domains to another provider, step by step", Args: cobra.MinimumNArgs(1),
		Long: "Places the zone at the new account, syncs both sides, and waits for each moment at which the next step loses no answer. The registrar is\n" +
			"asked for nothing before you allow it: beacon handover next. Acts that can be allowed beforehand: remove-ds, delegate, add-ds, retire. Of a batch only so many domains are under way at a time, and no more begin while\n" +
			"one of them is in trouble.",
		Example: "  beacon handover begin saltmarsh-ferries.example --to heron-main --dry-run\n  beacon handover begin saltmarsh-ferries.example --to heron-main --allow delegate",
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("grace") {
				seconds := int64(grace / time.Second)
				r.Grace = &seconds
			}
			for _, do := range allow {
				r.Allow = append(r.Allow, handover.Do(do))
			}
			var domains []dnsname.Name
			for _, arg := range args {
				name, err := parseName(arg)
				if err != nil {
					return err
				}
				domains = append(domains, name)
			}
			if !r.DryRun {
				what := plain(domains[0])
				if len(domains) > 1 {
					what = count(len(domains), "domain")
				}
				if err := a.agreed(yes, "Begin to move "+what+"? Nothing at the registrar changes before you allow it."); err != nil {
					return err
				}
			}
			return a.beginHandovers(r, domains)
		}}
	c.Flags().StringVar(&r.To, "to", "", "the provider account that the zone moves to")
	c.Flags().StringVar(&r.From, "from", "", "the provider account that is left, - for none; else the connected one whose nameservers are active")
	c.Flags().StringSliceVar(&r.Nameservers, "nameservers", nil, "in place of --to: nameservers that are not managed here")
	c.Flags().BoolVar(&r.Gap, "gap", false, "the new side accepts the domain only once it is delegated there: no answers until then; needs --reason")
	c.Flags().BoolVar(&r.Sign, "sign", false, "the new zone is signed, and gets a DS at the end")
	c.Flags().BoolVar(&r.Lower, "lower-ttls", false, "lower TTLs before the move, and restore them at its end")
	c.Flags().BoolVar(&r.KeepOld, "keep-old", false, "the old zone stays at its provider")
	c.Flags().DurationVar(&grace, "grace", 7*24*time.Hour, "how long the old zone stays once the change has settled")
	c.Flags().StringSliceVar(&allow, "allow", nil, "acts that need no further word")
	c.Flags().StringVar(&r.Batch, "batch", "", "a name for domains that move together")
	c.Flags().IntVar(&r.AtOnce, "at-once", 0, "with --batch: how many of them may be under way at a time")
	c.Flags().StringVar(&r.Window, "window", "", "change nameservers, DS and zones only then, such as \"Tue 02:00-04:00\"")
	c.Flags().StringVar(&r.Timezone, "timezone", "", "of the window, such as Europe/Berlin; else UTC")
	c.Flags().StringVar(&r.Reason, "reason", "", "reason, for the logbook")
	c.Flags().BoolVar(&r.DryRun, "dry-run", false, "show what it would be; begin nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// beginHandovers begins one handover for each domain. It stops at the first that cannot be begun: those before it go on.
func (a *app) beginHandovers(r wire.HandoverRequest, domains []dnsname.Name) error {
	list := make([]wire.Handover, len(domains))
	for i, name := range domains {
		if err := ask(a, wire.BeginHandover, r, &list[i], name); err != nil {
			if i > 0 && a.output == "table" {
				a.printf("%s begun, up to %s. The others were not.\n", count(i, "handover"), plain(domains[i-1]))
			}
			return err
		}
		if len(domains) > 1 && a.output == "table" {
			a.printf("%s: %s\n", plain(name), map[bool]string{true: "can be begun", false: "begun"}[r.DryRun])
		}
	}
	if len(domains) > 1 {
		return a.show(list, func() { a.printf("See how far they are: beacon handover list\n") })
	}
	v := list[0]
	return a.show(v, func() {
		a.showHandover(v)
		if r.DryRun {
			a.printf("This is a preview. Nothing was changed.\n")
			return
		}
		a.printf("It goes on in the background. See how far it is: beacon handover show %s\n", plain(v.Domain))
	})
}

func (a *app) handoverListCommand() *cobra.Command {
	var ended bool
	c := &cobra.Command{Use: "list", Short: "List handovers by the next moment at which something is due", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list := wire.ListHandovers.With("limit", "200")
		if ended {
			list = list.With("state", "ended")
		}
		var p wire.Page[wire.HandoverSummary]
		if err := ask(a, list, wire.None{}, &p); err != nil {
			return err
		}
		return a.show(p.Items, func() {
			if len(p.Items) == 0 {
				a.printf("No handovers. Begin one: beacon handover begin DOMAIN --to ACCOUNT\n")
				return
			}
			var rows [][]string
			for _, h := range p.Items {
				next := "-"
				if !h.NextAt.IsZero() {
					next = h.NextAt.UTC().Format("2006-01-02 15:04")
				}
				if ended {
					next = h.Ends.UTC().Format("2006-01-02 15:04")
				}
				phase := string(h.Phase)
				if h.State != wire.HandoverOpen {
					phase = string(h.State)
				}
				rows = append(rows, []string{plain(h.Domain), orElse(h.From, "-"), orElse(h.To, "-"), phase, next, h.Asked})
			}
			a.table([]string{"DOMAIN", "FROM", "TO", "PHASE", map[bool]string{false: "NEXT", true: "ENDED"}[ended], "ASKED OF YOU"}, rows)
		})
	}}
	c.Flags().BoolVar(&ended, "ended", false, "those that have ended, newest first")
	return c
}

func (a *app) handoverShowCommand() *cobra.Command {
	var wait time.Duration
	c := &cobra.Command{Use: "show DOMAIN", Short: "Show how far a handover is, until when and why, and what is asked of you", Args: cobra.ExactArgs(1),
		Long:    "With --wait it waits until the handover asks something of you, or has ended. It exits with 2 where neither came within that time.",
		Example: "  beacon handover show saltmarsh-ferries.example\n  beacon handover show saltmarsh-ferries.example --wait 1m",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var v wire.Handover
			deadline := time.Now().Add(wait)
			for {
				v = wire.Handover{}
				if err := ask(a, wire.ShowHandover, wire.None{}, &v, name); err != nil {
					return err
				}
				if needsYou(v) || wait == 0 || !time.Now().Before(deadline) {
					break
				}
				time.Sleep(min(handoverPause, time.Until(deadline)))
			}
			if err := a.show(v, func() { a.showHandover(v) }); err != nil || wait == 0 || needsYou(v) {
				return err
			}
			return exit{ExitSettling, ""}
		}}
	c.Flags().DurationVar(&wait, "wait", 0, "wait until something is asked of you, or it has ended, at most this long")
	return c
}

// handoverPause is how long a command that waits for a handover is left without a new look, real time.
const handoverPause = 300 * time.Millisecond

// needsYou reports whether a handover asks something of a user, or has ended.
func needsYou(v wire.Handover) bool {
	return v.Asked != nil && v.Doing == "" || v.State == wire.HandoverDone || v.State == wire.HandoverAbandoned
}

func (a *app) handoverNextCommand() *cobra.Command {
	var r wire.HandoverWord
	var allow []string
	var dryRun, yes bool
	c := &cobra.Command{Use: "next DOMAIN", Short: "Allow what a handover asks for, or agree to differences", Args: cobra.ExactArgs(1),
		Long: "Allows the act that the handover asks for. With --agree it accepts what the two sides answer differently; with --pass it passes a safety\n" +
			"gate, which loses answers and needs a reason. An act that failed is begun again.",
		Example: "  beacon handover next saltmarsh-ferries.example --dry-run\n  beacon handover next saltmarsh-ferries.example --allow delegate --yes",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			for _, do := range allow {
				r.Allow = append(r.Allow, handover.Do(do))
			}
			var v wire.Handover
			if err := ask(a, wire.ShowHandover, wire.None{}, &v, name); err != nil {
				return err
			}
			if dryRun {
				return a.show(v, func() {
					a.showHandover(v)
					a.printf("This is a preview. Nothing was changed.\n")
				})
			}
			question := "Go on with the handover of " + plain(name) + "?"
			if len(allow)+len(r.Pass) == 0 && r.Agree == "" {
				switch {
				case v.Asked == nil && v.Trouble == "":
					return exit{ExitFailed, "nothing is asked of you: " + waitsFor(v) + ". Nothing was changed"}
				case v.Asked != nil && v.Asked.Kind != handover.AskAllow:
					return exit{ExitFailed, v.Asked.Text + " Nothing was changed." + thenRun(v.Asked.Command)}
				case v.Asked != nil:
					question = v.Asked.Text + " Allow it?"
					r.Allow = []handover.Do{v.Asked.Do}
				}
			}
			if err := a.agreed(yes, question); err != nil {
				return err
			}
			if err := ask(a, wire.NextOfHandover, r, &v, name); err != nil {
				return err
			}
			return a.show(v, func() {
				a.printf("It goes on in the background. See how far it is: beacon handover show %s\n", plain(v.Domain))
			})
		}}
	c.Flags().StringSliceVar(&allow, "allow", nil, "acts to allow: remove-ds, delegate, add-ds, retire; else the one that is asked for")
	c.Flags().StringVar(&r.Agree, "agree", "", "digest of the differences that you accept")
	c.Flags().StringSliceVar(&r.Pass, "pass", nil, "pass a closed gate, by its code; answers are lost")
	c.Flags().StringVar(&r.Reason, "reason", "", "reason, for the logbook; needed with --pass")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what is asked; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func thenRun(command string) string {
	if command == "" {
		return ""
	}
	return " Then: " + command
}

// waitsFor is what a handover waits for, in words.
func waitsFor(v wire.Handover) string {
	if v.Doing != "" {
		return "it is busy: " + v.Doing
	}
	if len(v.Wait) == 0 {
		return "it is " + string(v.State)
	}
	w := v.Wait[0]
	if w.Until.IsZero() {
		return "it waits until " + w.For
	}
	return "it waits until " + w.For + ", by " + moment(w.Until, v.DecidedAt)
}

// handoverTurnCommand ends or turns a handover.
func (a *app) handoverTurnCommand(use, short, question string, call wire.Call[wire.HandoverEnd, wire.Handover]) *cobra.Command {
	var r wire.HandoverEnd
	var dryRun, yes bool
	c := &cobra.Command{Use: use + " DOMAIN", Short: short, Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		name, err := parseName(args[0])
		if err != nil {
			return err
		}
		var v wire.Handover
		if err := ask(a, wire.ShowHandover, wire.None{}, &v, name); err != nil {
			return err
		}
		if dryRun {
			return a.show(v, func() {
				a.showHandover(v)
				a.printf("This is a preview. Nothing was changed.\n")
			})
		}
		if use == "back" && v.Back.Text != "" {
			question = v.Back.Text + " " + question
		}
		if err := a.agreed(yes, question); err != nil {
			return err
		}
		if err := ask(a, call, r, &v, name); err != nil {
			return err
		}
		return a.show(v, func() { a.showHandover(v) })
	}}
	c.Flags().StringVar(&r.Reason, "reason", "", "reason, for the logbook")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show how far it is; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// showHandover shows where a handover is, what is asked, its steps, and how to go back.
func (a *app) showHandover(v wire.Handover) {
	line := func(label, text string) {
		a.printf("  %-21s%s\n", label, strings.Join(wrap(text, width-23), "\n"+strings.Repeat(" ", 23)))
	}
	title := a.paint(bold, plain(v.Domain)) + ": " + orElse(v.From, names(v.Old)) + " -> " + orElse(v.To, names(v.New))
	a.printf("%s\n", title)
	line("state", stateText(v))
	old, assigned := "none, it is not delegated yet", "not assigned yet"
	if len(v.Old) > 0 {
		old = names(v.Old)
	}
	if len(v.New) > 0 {
		assigned = names(v.New)
	}
	if v.Batch != "" {
		line("batch", v.Batch)
	}
	if v.Window != "" {
		line("window", v.Window)
	}
	line("old nameservers", old)
	line("new nameservers", assigned)
	if v.Compared.Names > 0 {
		line("answers", comparedText(v.Compared))
		for _, d := range v.Compared.Differences {
			line("", d.Key.Name.Unicode()+" "+d.Key.Type.String()+": old "+orElse(d.Old, "-")+", new "+orElse(d.New, "-"))
		}
	}
	if v.Doing != "" {
		line("now", v.Doing)
	}
	if v.Trouble != "" {
		line("problem", v.Trouble)
	}
	for _, h := range v.Unwritten {
		line("not written", fmt.Sprintf("%s %s to %s, reported %s; it is tried again. %s", h.Host.Unicode(), orElse(h.Address, "(no address)"), h.Account, h.Since.Local().Format("15:04:05"), h.Problem))
	}
	if v.Asked != nil {
		line("asked of you", v.Asked.Text)
		for _, n := range v.Asked.Enter {
			line("", n)
		}
		if v.Asked.Command != "" {
			line("", a.paint(dim, v.Asked.Command))
		}
	}
	a.findings(v.Closed)
	for i, set := range v.Later {
		label := "afterwards"
		if i > 0 {
			label = ""
		}
		line(label, "proposed in the draft: "+record.SetText(set))
	}
	if len(v.Hanging) > 0 && v.Phase != handover.Done {
		a.printf("\n%s\n", a.paint(bold, "What else hangs on the old nameservers"))
		a.findings(v.Hanging)
	}
	if len(v.Steps) > 0 {
		a.printf("\n")
	}
	for _, s := range v.Steps {
		mark := map[wire.StepState]string{wire.StepDone: "done", wire.StepCurrent: "now", wire.StepPending: ""}[s.State]
		text := s.Text
		if !s.Until.IsZero() {
			text += " (" + moment(s.Until, v.DecidedAt) + ")"
		} else if !s.At.IsZero() && s.State != wire.StepCurrent {
			text += " (" + moment(s.At, v.DecidedAt)
			if ended := v.State == wire.HandoverDone || v.State == wire.HandoverAbandoned; ended && !s.Planned.IsZero() {
				text += ", planned " + moment(s.Planned, v.DecidedAt)
			}
			text += ")"
		}
		if s.Needs {
			text += " - you have to allow it"
		}
		line(mark, text)
	}
	if v.Back.Text != "" {
		a.printf("\n")
		line("going back", v.Back.Text)
		if v.Back.Command != "" {
			line("", a.paint(dim, v.Back.Command))
		}
	}
}

func stateText(v wire.Handover) string {
	text := string(v.Phase)
	if v.State != wire.HandoverOpen {
		text = string(v.State)
		if v.State == wire.HandoverPaused {
			text += " (" + string(v.Phase) + ")"
		}
	}
	if len(v.Wait) > 0 && v.State == wire.HandoverOpen {
		text += ": " + waitsFor(v)
	}
	return text
}

func comparedText(c wire.HandoverComparison) string {
	text := fmt.Sprintf("%d names and types compared; ", c.Names)
	differ := len(compare.Open(c.Differences))
	switch {
	case differ == 0:
		return text + "both sides answer the same"
	case c.Agreed:
		return fmt.Sprintf("%s%d answered differently, agreed to", text, differ)
	}
	return fmt.Sprintf("%s%d answered differently, digest %s", text, differ, c.Digest)
}

// orElse returns text, or another where it is empty.
func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
