package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/core/dnsname"
	"beacon/wire"
)

func (a *app) kindsCommand(role string) *cobra.Command {
	return &cobra.Command{Use: "kinds", Short: "List the kinds of accounts that can be connected", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListKinds.With("role", role))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			for _, k := range list {
				a.printf("%s\n", a.paint(bold, k.Name))
				for _, line := range wrap(k.About, width-2) {
					a.printf("  %s\n", line)
				}
				if k.Registrar != nil {
					for _, line := range registrarWords(*k.Registrar) {
						a.printf("  - %s\n", line)
					}
				}
			}
			if role == wire.RoleRegistrar {
				a.printf("No account is needed to enter nameservers by hand: beacon delegate DOMAIN shows what to copy.\n")
				a.printf("A domain below a zone that is managed here is delegated in that zone.\n")
			}
		})
	}}
}

// registrarWords is what a registrar is like, a line each.
func registrarWords(c wire.RegistrarCaps) (list []string) {
	add := func(ok bool, text string) {
		if ok {
			list = append(list, text)
		}
	}
	add(c.Activation, "a saved list is active only once it is activated")
	add(c.Delayed, "accepts changes and does them later")
	add(c.Least > 0 && c.Most > 0, fmt.Sprintf("%d to %d nameservers", c.Least, c.Most))
	add(c.Least == 0 && c.Most > 0, fmt.Sprintf("at most %d nameservers", c.Most))
	add(c.FinalDot != "", "final dot "+c.FinalDot)
	add(c.Again, "each change repeats a part of the credential")
	add(c.Hosts, "takes host objects (glue)")
	add(c.DS == "digests", "takes DS records")
	add(c.DS == "keys", "takes DNSKEY records, and computes the DS")
	add(c.Locks, "locks can be set and lifted")
	return list
}

func (a *app) verifyCommand(role string) *cobra.Command {
	var zone string
	var yes, last bool
	r := wire.Verification{Role: role}
	c := &cobra.Command{Use: "verify ACCOUNT", Short: "Test everything that is needed of a provider, in a scratch zone", Args: cobra.ExactArgs(1),
		Long: "Makes the scratch zone at the provider, writes and reads records of every kind in it, and removes it. Where zones are made\n" +
			"elsewhere (kind update), the zone must exist and be empty, and is left so. The run goes on where you stop watching it.",
		Example: "  beacon provider verify heron-main --zone scratch.saltmarsh-ferries.example\n  beacon provider verify heron-main --last",
		RunE: func(_ *cobra.Command, args []string) error {
			if last {
				return a.lastVerification(role, args[0])
			}
			name, err := dnsname.Parse(zone)
			if err != nil || zone == "" {
				return misuse("name what the run may change: --%s NAME", map[string]string{wire.RoleProvider: "zone", wire.RoleRegistrar: "domain"}[role])
			}
			question := fmt.Sprintf("Make and remove the zone %s at %s?", zone, args[0])
			if r.Zone = name; role == wire.RoleRegistrar {
				r.Zone, r.Domain = dnsname.Name{}, name
				question = fmt.Sprintf("Change the nameservers of %s at %s for a while?", zone, args[0])
			}
			if err := a.agreed(yes, question); err != nil {
				return err
			}
			var run wire.VerificationRun
			if err := ask(a, wire.VerifyAccount, r, &run, args[0]); err != nil {
				return err
			}
			return a.followVerification(run)
		}}
	if role == wire.RoleRegistrar {
		c.Short = "Test everything that is needed of a registrar, on a domain that may change"
		c.Long = "Saves and activates another list of nameservers for the domain, tries host objects, DS records and locks where the registrar takes\n" +
			"them, and restores the list that was active. Use a domain without users. The run goes on where you stop watching it."
		c.Example = "  beacon registrar verify gannet-main --domain spare-harbour.example --nameservers quay-11.heron.test,quay-13.heron.test"
		c.Flags().StringVar(&zone, "domain", "", "domain without users")
		c.Flags().StringSliceVar(&r.Nameservers, "nameservers", nil, "list to try with")
	} else {
		c.Flags().StringVar(&zone, "zone", "", "scratch zone without users")
	}
	c.Flags().BoolVar(&last, "last", false, "show the last run")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) lastVerification(role, account string) error {
	list, err := all(a, wire.ListVerified.With("role", role), account)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return exit{ExitFailed, "no run of " + account + " is known"}
	}
	return a.followVerification(list[0])
}

// verifyPause is how long to wait before a run that has not ended is asked for again.
const verifyPause = 200 * time.Millisecond

// followVerification shows each check as it is made, until the run has ended.
func (a *app) followVerification(run wire.VerificationRun) error {
	shown, far := 0, meter.New(a.err, "checks made")
	show := func() {
		far.Clear()
		for ; shown < len(run.Checks) && a.output == "table"; shown++ {
			a.showCheck(run.Checks[shown])
		}
		if run.FinishedAt == nil {
			far.At(int64(len(run.Checks)), int64(run.Of), "")
		}
	}
	for show(); run.FinishedAt == nil; show() {
		time.Sleep(verifyPause)
		if err := ask(a, wire.ShowVerified, wire.None{}, &run, run.ID); err != nil {
			return err
		}
	}
	far.Clear()
	err := a.show(run, func() { a.showVerified(run) })
	if err == nil && (run.Failed > 0 || run.State != "done") {
		return exit{ExitFailed, ""}
	}
	return err
}

func (a *app) showCheck(r wire.Verified) {
	mark, colour := "ok", green
	switch r.Outcome {
	case "failed":
		mark, colour = "FAILED", red
	case "not applicable":
		mark, colour = "-", amber
	}
	a.printf("  %s %s\n", a.paint(colour, fmt.Sprintf("%-6s", mark)), r.Check)
	if strings.HasPrefix(r.Detail, "not tried, ") {
		return
	}
	for _, line := range wrap(r.Detail, width-11) {
		if line != "" {
			a.printf("           %s\n", line)
		}
	}
}

// showVerified sums a run up.
func (a *app) showVerified(run wire.VerificationRun) {
	passed, untried := 0, 0
	for _, r := range run.Checks {
		if r.Outcome == "passed" {
			passed++
		}
		if strings.HasPrefix(r.Detail, "not tried, ") {
			untried++
		}
	}
	a.printf("%s passed, %d failed, %d not applicable.\n", count(passed, "check"), run.Failed, len(run.Checks)-passed-run.Failed)
	if run.Cause != "" {
		a.printf("Correct this first, since %s could not be tried: %s\n", count(untried, "check"), run.Cause)
	}
	if run.Problem != "" {
		a.printf("The run ended before its end: %s\n", run.Problem)
	}
}
