package cli

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/signal"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"beacon/wire"
)

func (a *app) signInCommand() *cobra.Command {
	var as, file, first string
	c := &cobra.Command{
		Use: "sign-in", Short: "Sign in to the service", Args: cobra.NoArgs,
		Long:    "Sign in to the service. At its first start it prints a link: with --first LINK you choose the password of the first user, admin.",
		Example: "  beacon sign-in --as admin\n  beacon sign-in --as admin --password-file var/demo/password",
		RunE: func(*cobra.Command, []string) error {
			prompt := "Password of " + as + ": "
			if first != "" {
				prompt = "New password of " + as + ", twelve characters at least: "
			}
			password, err := a.secret("BEACON_PASSWORD", file, prompt)
			if err != nil {
				return err
			}
			if first != "" {
				if err := a.makeFirstUser(first, password); err != nil {
					return err
				}
			}
			var got wire.SignedIn
			if err := ask(a, wire.DoSignIn, wire.SignIn{Name: as, Password: password}, &got); err != nil {
				return err
			}
			if err := a.keepToken(got.Token); err != nil {
				return fmt.Errorf("signed in, but it could not be remembered: %w", err)
			}
			return a.show(map[string]any{"address": a.address, "name": as, "expires": got.Expires}, func() {
				a.printf("Signed in to %s as %s until %s.\n", a.address, as, got.Expires.Format("2006-01-02"))
			})
		},
	}
	c.Flags().StringVar(&as, "as", "admin", "name of the user")
	c.Flags().StringVar(&first, "first", "", "link that the first start of the service printed")
	c.Flags().StringVar(&file, "password-file", "", "file with the password; else BEACON_PASSWORD, else you are asked")
	return c
}

// makeFirstUser makes the first user by the link of the first start, which also says where the service is.
func (a *app) makeFirstUser(link, password string) error {
	at, err := url.Parse(link)
	if err != nil || at.Fragment == "" || at.Host == "" {
		return misuse("--first: write the whole link that the service printed, with what is behind the #")
	}
	a.address = at.Scheme + "://" + at.Host
	return ask(a, wire.MakeFirstUser, wire.FirstUser{Code: at.Fragment, Password: password}, (*wire.UserMade)(nil))
}

func (a *app) signOutCommand() *cobra.Command {
	return &cobra.Command{Use: "sign-out", Short: "End the session, and forget its token", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		if err := ask(a, wire.SignOut, wire.None{}, nil); err != nil {
			return err
		}
		if err := a.keepToken(""); err != nil {
			return err
		}
		return a.show(map[string]any{"address": a.address, "signed_out": true}, func() { a.printf("Signed out.\n") })
	}}
}

// secret reads a secret from a file, the environment or the terminal; never from the command line, where others on the
// machine could read it.
func (a *app) secret(variable, file, prompt string) (string, error) {
	if file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return "", misuse("%s", err)
		}
		return strings.TrimSpace(string(text)), nil
	}
	if text := os.Getenv(variable); text != "" {
		return text, nil
	}
	if f, ok := a.in.(*os.File); ok && isTerminal(f) {
		fmt.Fprint(a.err, prompt)
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(text), err
	}
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if line = strings.TrimSpace(line); line == "" {
		return "", misuse("give the secret in a file, in %s or on standard input", variable)
	}
	if err != nil && line == "" {
		return "", err
	}
	return line, nil
}

// addCommand connects an account of either role.
func (a *app) addCommand(role, example string) *cobra.Command {
	var kind, base string
	var credential credentialFlags
	var hosts []string
	c := &cobra.Command{
		Use: "add NAME", Short: "Connect an account; its credential is tested immediately", Args: cobra.ExactArgs(1), Example: example,
		RunE: func(_ *cobra.Command, args []string) error {
			parts, err := a.partsOf(role, kind)
			if err != nil {
				return err
			}
			body := wire.NewAccount{Name: args[0], Role: role, Kind: kind, Address: base}
			if body.Hosts, err = hostsOf(hosts); err != nil {
				return err
			}
			if body.Secret, body.Parts, err = credential.read(a, parts, "Credential of "+args[0]); err != nil {
				return err
			}
			var got wire.AccountAdded
			if err := ask(a, wire.AddAccount, body, &got); err != nil {
				return err
			}
			what := "zones"
			if role == wire.RoleRegistrar {
				what = "domains"
			}
			sees := fmt.Sprintf(" and sees %d %s", got.Seen, what)
			if got.Seen < 0 {
				sees = ""
			}
			a.printf("Connected %s (%s at %s); its credential works%s.\n", args[0], kind, base, sees)
			a.showRights(got.Tried)
			return nil
		},
	}
	c.Flags().StringVar(&kind, "kind", "", "which interface it has")
	c.Flags().StringVar(&base, "url", "", "base address of the interface")
	credential.add(c)
	c.Flags().StringArrayVar(&hosts, "host", nil, "NAME=URL, a further address that the kind asks for")
	_ = c.MarkFlagRequired("kind")
	_ = c.MarkFlagRequired("url")
	return c
}

func (a *app) registrarCommand() *cobra.Command {
	c := &cobra.Command{Use: "registrar", Short: "Manage accounts at registrars, and locks of domains there"}
	domains := &cobra.Command{Use: "domains ACCOUNT", Short: "List the domains of an account, with their nameservers", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		list, err := all(a, wire.ListHoldings, args[0])
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for _, r := range list {
				rows = append(rows, []string{plain(r.Name), r.Expires.Format("2006-01-02"), "active", names(r.Active)})
				if fmt.Sprint(r.Saved) != fmt.Sprint(r.Active) {
					rows = append(rows, []string{"", "", "saved only", names(r.Saved)})
				}
			}
			a.table([]string{"DOMAIN", "EXPIRES", "LIST", "NAMESERVERS"}, rows)
		})
	}}
	c.AddCommand(a.listAccounts(wire.RoleRegistrar), domains, a.registrarFindCommand(), a.lockCommand(false), a.lockCommand(true), a.kindsCommand(wire.RoleRegistrar), a.verifyCommand(wire.RoleRegistrar),
		a.rotateCommand(wire.RoleRegistrar), a.removeAccountCommand(wire.RoleRegistrar), a.addCommand(wire.RoleRegistrar, "  beacon registrar add gannet-main --kind gannet --url https://api.gannet.example --secret-file key"))
	return c
}

func (a *app) logbookCommand() *cobra.Command {
	var subject string
	var requests, follow bool
	var limit int
	c := &cobra.Command{Use: "logbook", Short: "Show who changed what, newest first", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		if follow {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			return a.followEvents(ctx, requests, func() {}, func(e wire.Entry) {
				if subject == "" || subject == e.Subject {
					a.showEvent(e)
				}
			})
		}
		if limit < 1 || limit > 200 {
			return misuse("--limit is 1 to 200")
		}
		var p wire.Page[wire.Entry]
		if err := ask(a, wire.ListEntries.With("limit", strconv.Itoa(limit), "requests", strconv.FormatBool(requests), "subject", subject), wire.None{}, &p); err != nil {
			return err
		}
		return a.show(p.Items, func() {
			for _, e := range p.Items {
				a.showEvent(e)
			}
		})
	}}
	c.Flags().StringVar(&subject, "subject", "", "only lines about this: a zone with its final dot, or an account")
	c.Flags().BoolVar(&requests, "requests", false, "with every request to providers and registrars")
	c.Flags().BoolVar(&follow, "follow", false, "show lines as they are written, until Ctrl-C")
	c.Flags().IntVar(&limit, "limit", 30, "number of lines")
	return c
}

// showEvent prints one line of the logbook as it comes: for programs, one JSON object a line.
func (a *app) showEvent(e wire.Entry) {
	if a.output == "json" {
		_ = json.NewEncoder(a.out).Encode(e)
		return
	}
	lead, more := a.paint(dim, e.At.Format("01-02 15:04:05")), strings.Repeat(" ", 16)
	for _, line := range wrap(e.Text, width-16) {
		a.printf("%s  %s\n", lead, line)
		lead = more[2:]
	}
	for _, line := range wrap(strings.TrimSuffix(e.Action+", by "+strings.TrimSuffix(e.Actor, ".")+": "+e.Detail, ": "), width-16) {
		a.printf("%s%s\n", more, a.paint(dim, line))
	}
}
