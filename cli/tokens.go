package cli

import (
	"fmt"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/access"
	"beacon/core/zonefile"
	"beacon/wire"
)

func (a *app) tokenCommand() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Manage tokens of scripts, machines and dynamic hosts",
		Long: "Manage tokens. A script or machine gets a token of its own, which may do only what it needs.\n" +
			"Programs send it as Authorization: Bearer TOKEN; beacon reads it from BEACON_TOKEN."}
	c.AddCommand(a.tokenListCommand(), a.tokenAddCommand(), a.tokenRenewCommand(), a.tokenRevokeCommand())
	return c
}

func (a *app) tokenListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List tokens: your own, or all if you may manage users", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListTokens)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			for _, t := range list {
				a.showToken(t)
			}
			if len(list) == 0 {
				a.printf("There is no token. Create one for each script and machine: beacon token add NAME --grant GRANT\n")
			}
		})
	}}
}

// showToken prints a token: what it may do, when it was used, until when it is valid, and what speaks against it.
func (a *app) showToken(t wire.TokenView) {
	from := "made by " + t.Maker
	if t.Kind == access.HostToken {
		from = "dynamic host"
	}
	a.printf("%s  %s  %s\n", a.paint(bold, strings.TrimSuffix(t.Name, ".")), t.Begins+"…", a.paint(dim, from))
	line := func(label, text string) {
		for i, part := range wrap(text, width-10) {
			if i > 0 {
				label = ""
			}
			a.printf("  %-6s  %s\n", label, part)
		}
	}
	line("may", access.Text(t.Grants))
	if t.LastUsedAt == nil {
		line("used", "never")
	} else {
		line("used", usedAt(t.LastUsedAt)+" from "+t.LastUsedFrom)
	}
	if len(t.Networks) > 0 {
		line("from", strings.Trim(fmt.Sprint(t.Networks), "[]")+" only")
	}
	if t.Expires != nil {
		line("until", t.Expires.Local().Format(time.DateOnly))
	}
	for _, doubt := range t.Doubts {
		line("!", doubt)
	}
}

// expiry reads when a token expires: after a duration, such as 90d, or at a day.
func expiry(text string, now time.Time) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	at, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		seconds, wrong := zonefile.ParseTTL(text)
		if wrong != nil {
			return nil, misuse("--expires %q: write how long, such as 90d, or a day, such as 2030-12-31", text)
		}
		at = now.Add(time.Duration(seconds) * time.Second)
	}
	return &at, nil
}

// keepMachineToken shows a token once, or writes it to a file.
func (a *app) keepMachineToken(made wire.TokenMade, file string) error {
	if file != "" {
		if err := os.WriteFile(file, []byte(made.Token+"\n"), 0o600); err != nil {
			return fmt.Errorf("the token was made, but could not be kept: %w; give it another text: beacon token renew %s", err, made.Name)
		}
	}
	return a.show(made, func() {
		if file != "" {
			a.printf("The token %s is in %s.\n", made.Name, file)
		} else {
			a.printf("The token %s, shown this once:\n  %s\n", made.Name, made.Token)
		}
		if made.Until != nil {
			a.printf("The text until now is valid until %s.\n", made.Until.Local().Format("2006-01-02 15:04"))
		}
		if made.Expires != nil {
			a.printf("It expires on %s.\n", made.Expires.Local().Format(time.DateOnly))
		}
	})
}

func (a *app) tokenAddCommand() *cobra.Command {
	var grants, from []string
	var expires, file string
	c := &cobra.Command{Use: "add NAME", Short: "Create a token and show it once", Args: cobra.ExactArgs(1),
		Long: "Create a token for a script or a machine. It may do what its grants say, and never more than you.\n" +
			"It ends when you are removed.\n\n" + grantsHelp,
		Example: "  beacon token add certificates --grant 'edit zones=saltmarsh-ferries.example names=_acme-challenge types=TXT'\n" +
			"  beacon token add tower --grant sweep --network 192.0.2.7/32 --token-file tower.token",
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := readGrants(grants)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return misuse("say what the token may do, for example: --grant viewer")
			}
			n := wire.NewToken{Name: args[0], Grants: list}
			for _, text := range from {
				p, err := netip.ParsePrefix(text)
				if addr, wrong := netip.ParseAddr(text); err != nil && wrong == nil {
					p, err = netip.PrefixFrom(addr, addr.BitLen()), nil
				}
				if err != nil {
					return misuse("--network %q: write a network, such as 192.0.2.0/24", text)
				}
				n.Networks = append(n.Networks, p)
			}
			if n.Expires, err = expiry(expires, time.Now()); err != nil {
				return err
			}
			var made wire.TokenMade
			if err := ask(a, wire.AddToken, n, &made); err != nil {
				return err
			}
			return a.keepMachineToken(made, file)
		}}
	c.Flags().StringArrayVar(&grants, "grant", nil, "what the token may do; may be repeated")
	c.Flags().StringArrayVar(&from, "network", nil, "network that it may come from; may be repeated; none for all")
	c.Flags().StringVar(&expires, "expires", "", "how long it is valid, such as 90d, or until which day; none for no end")
	c.Flags().StringVar(&file, "token-file", "", "write the token to this file instead of showing it")
	return c
}

func (a *app) tokenRenewCommand() *cobra.Command {
	var overlap, expires, file string
	c := &cobra.Command{Use: "renew NAME", Short: "Give a token another text, and show it once", Args: cobra.ExactArgs(1),
		Long: "Give a token, or that of a dynamic host, another text. With --overlap the text until now stays valid for a while:\n" +
			"change over whatever uses it within that time.",
		Example: "  beacon token renew certificates --overlap 1d\n  beacon token renew pier-cam.saltmarsh-ferries.example --token-file pier-cam.token",
		RunE: func(_ *cobra.Command, args []string) error {
			seconds := uint32(0)
			var err error
			if overlap != "" {
				if seconds, err = zonefile.ParseTTL(overlap); err != nil {
					return misuse("--overlap: %s", err)
				}
			}
			r := wire.TokenRenewal{Overlap: int(seconds)}
			if r.Expires, err = expiry(expires, time.Now()); err != nil {
				return err
			}
			var made wire.TokenMade
			if err := ask(a, wire.RenewToken, r, &made, args[0]); err != nil {
				return err
			}
			return a.keepMachineToken(made, file)
		}}
	c.Flags().StringVar(&overlap, "overlap", "", "how long the text until now stays valid, such as 1d; none for not at all")
	c.Flags().StringVar(&expires, "expires", "", "a new end; none keeps the one that it has")
	c.Flags().StringVar(&file, "token-file", "", "write the token to this file instead of showing it")
	return c
}

func (a *app) tokenRevokeCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "revoke NAME", Short: "Revoke a token immediately", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		if err := a.agreed(yes, "Revoke the token "+args[0]+"?"); err != nil {
			return err
		}
		if err := ask(a, wire.RevokeToken, wire.None{}, (*wire.None)(nil), args[0]); err != nil {
			return err
		}
		return a.show(wire.TokenMade{Name: args[0]}, func() { a.printf("The token %s is revoked.\n", args[0]) })
	}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
