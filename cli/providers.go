package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/change"
	"beacon/wire"
)

func (a *app) listAccounts(role string) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List connected accounts", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListAccounts.With("role", role))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for _, acc := range list {
				rows = append(rows, []string{acc.Name, acc.Kind, acc.Address, fmt.Sprint(acc.Zones), ago(acc.UsedAt)})
			}
			a.table([]string{"ACCOUNT", "KIND", "ADDRESS", "ZONES", "LAST USED"}, rows)
			for _, acc := range list {
				a.findings(acc.Findings)
			}
		})
	}}
}

// ago returns how long something is past.
func ago(at *time.Time) string {
	if at == nil {
		return "never"
	}
	d := time.Since(*at)
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s ago", max(0, int(d.Seconds())))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return at.Format("2006-01-02")
}

func (a *app) providerCommand() *cobra.Command {
	c := &cobra.Command{Use: "provider", Short: "Manage accounts at DNS providers"}
	zones := &cobra.Command{Use: "zones ACCOUNT", Short: "List the zones of an account", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		list, err := all(a, wire.ListRemoteZones, args[0])
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for _, z := range list {
				rows = append(rows, []string{plain(z.Name), z.ID, names(z.Nameservers)})
			}
			a.table([]string{"ZONE", "ID", "NAMESERVERS"}, rows)
		})
	}}
	c.AddCommand(a.listAccounts(wire.RoleProvider), a.showAccountCommand(), zones,
		a.addCommand(wire.RoleProvider, "  beacon provider add heron-main --kind heron --url https://api.heron.example --secret-file key\n"+
			"  beacon provider add moor --kind update --url dns://192.0.2.53 --secret-file key   # hmac-sha256:NAME:BASE64"),
		a.rotateCommand(wire.RoleProvider), a.removeAccountCommand(wire.RoleProvider), a.kindsCommand(wire.RoleProvider), a.verifyCommand(wire.RoleProvider), a.profileCommand(), a.tryCommand())
	return c
}

func (a *app) showAccountCommand() *cobra.Command {
	return &cobra.Command{Use: "show ACCOUNT", Short: "Show an account: the rights of its credential, and what its provider can do", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		list, err := all(a, wire.ListAccounts.With("role", wire.RoleProvider))
		if err != nil {
			return err
		}
		for _, acc := range list {
			if acc.Name == args[0] {
				return a.show(acc, func() { a.showAccount(acc) })
			}
		}
		return exit{ExitFailed, fmt.Sprintf("there is no provider account %q; see beacon provider list", args[0])}
	}}
}

func (a *app) showAccount(acc wire.AccountView) {
	line := func(what, text string) { a.printf("  %-12s %s\n", what, text) }
	a.printf("%s\n", a.paint(bold, acc.Name))
	line("kind", acc.Kind+": "+acc.About)
	line("address", acc.Address)
	line("zones", fmt.Sprintf("%d placed there, %d of them to look at (beacon drift)", acc.Zones, acc.Troubled))
	line("last used", ago(acc.UsedAt))
	given := acc.CreatedAt
	if acc.RotatedAt != nil {
		given = *acc.RotatedAt
	}
	line("credential", "given "+given.Format("2006-01-02")+"; it may: "+rightsWords(acc.Rights))
	if acc.Caps != nil {
		for i, text := range capsWords(*acc.Caps) {
			line(map[bool]string{true: "can"}[i == 0], text)
		}
	}
	a.findings(acc.Findings)
}

func rightsWords(rights []string) string {
	if len(rights) == 0 {
		return "the provider does not say"
	}
	return strings.Join(rights, ", ")
}

// capsWords returns what a provider can do, for people.
func capsWords(c change.Caps) (list []string) {
	add := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	what := map[change.Granularity]string{change.BySet: "record sets", change.ByRecord: "single records", change.ByZone: "the whole zone in one request"}[c.Granularity]
	switch {
	case c.Granularity == change.ByZone:
		add("writes %s", what)
	case c.BatchSize == 0:
		add("writes %s, any number in a request", what)
	default:
		add("writes %s, at most %d in a request", what, c.BatchSize)
	}
	if !c.Atomic {
		add("does the changes of a request one after the other")
	}
	if c.Delayed {
		add("accepts changes first and does them later")
	}
	if c.ReadLag > 0 {
		add("shows changes to readers up to %s later", c.ReadLag)
	}
	if c.TTLFloor > 0 {
		add("least TTL %d s", c.TTLFloor)
	}
	if c.Parallel > 0 {
		add("changes of %s at the same time", count(c.Parallel, "zone"))
	}
	if len(c.TTLSteps) > 0 {
		add("TTLs %s s only", strings.Trim(strings.ReplaceAll(fmt.Sprint(c.TTLSteps), " ", ", "), "[]"))
	}
	if c.Texts != change.TextAsWritten {
		add("TXT as %s", map[change.TextForm]string{change.TextJoined: "one text of any length", change.TextSingle: "one string of at most 255 octets"}[c.Texts])
	}
	if c.ApexAlias {
		add("ALIAS at the apex")
	}
	if len(c.SOA) > 0 {
		add("SOA fields %s", strings.Join(c.SOA, ", "))
	}
	if c.Marks {
		add("shows in one small request whether a zone has changed")
	}
	if c.FixedZones {
		add("zones are made elsewhere")
	}
	for _, e := range c.Attributes {
		values := "any text"
		if len(e.Values) > 0 {
			values = strings.Join(e.Values, " or ")
		}
		add("attribute %s (%s): %s", e.Name, values, e.About)
	}
	return list
}

// showRights prints what a credential may do, and what speaks against it.
func (a *app) showRights(t wire.Tried) {
	words := make([]string, len(t.Rights))
	for i, r := range t.Rights {
		words[i] = string(r)
	}
	a.printf("  It may: %s.\n", rightsWords(words))
	a.findings(t.Findings)
}

// removeAccountCommand forgets an account that is not used.
func (a *app) removeAccountCommand(role string) *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove ACCOUNT", Short: "Remove an account and its credential; not while it is used", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.agreed(yes, "Remove account "+args[0]+" and forget its credential?"); err != nil {
				return err
			}
			if err := ask(a, wire.RemoveAccount.With("role", role), wire.None{}, nil, args[0]); err != nil {
				return err
			}
			if err := a.show(map[string]any{"account": args[0], "removed": true}, func() {
				a.printf("Removed %s. Nothing changed at the %s: revoke the credential there.\n", args[0], role)
			}); err != nil {
				return err
			}
			return nil
		}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) rotateCommand(role string) *cobra.Command {
	var credential credentialFlags
	c := &cobra.Command{Use: "rotate ACCOUNT", Short: "Replace the credential of an account; it is tested immediately", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			parts, err := a.partsOfAccount(role, args[0])
			if err != nil {
				return err
			}
			body := wire.NewCredential{Role: role}
			if body.Secret, body.Parts, err = credential.read(a, parts, "New credential of "+args[0]); err != nil {
				return err
			}
			var got wire.AccountAdded
			if err := ask(a, wire.RotateCredential, body, &got, args[0]); err != nil {
				return err
			}
			a.printf("%s has the new credential. Withdraw the old one at the provider now.\n", args[0])
			a.showRights(got.Tried)
			return nil
		}}
	credential.add(c)
	return c
}

// self is this program, which evaluates the expressions of profiles as a process of its own.
func self() []string {
	path, err := os.Executable()
	if err != nil {
		return nil
	}
	return []string{path, EvaluateWord}
}

// EvaluateWord is the hidden command that the program runs itself with to evaluate expressions.
const EvaluateWord = "evaluate"
