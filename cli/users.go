package cli

import (
	"strconv"
	"time"

	"beacon/core/access"
	"beacon/wire"

	"github.com/spf13/cobra"
)

func (a *app) userCommand() *cobra.Command {
	c := &cobra.Command{Use: "user", Short: "Manage users, your own password and sessions"}
	c.AddCommand(
		&cobra.Command{Use: "list", Short: "List users", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
			list, err := all(a, wire.ListUsers)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, u := range list {
					rows = append(rows, []string{u.Name, access.Text(u.Grants), strconv.Itoa(u.Tokens), usedAt(u.SignedInAt)})
				}
				a.table([]string{"USER", "GRANTED", "TOKENS", "SIGNED IN"}, rows)
			})
		}},
		a.userAddCommand(), a.userGrantCommand(), a.userRemoveCommand(), a.userPasswordCommand(), a.userSessionsCommand(), a.userEndSessionCommand())
	return c
}

// usedAt prints a time, or that there was none.
func usedAt(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return t.Local().Format("2006-01-02 15:04")
}

// grantsHelp says how grants are written.
const grantsHelp = "A grant is a role (owner, operator, editor, viewer) or actions, and what narrows it:\n" +
	"  editor\n" +
	"  editor zones=saltmarsh-ferries.example,*.piers.example\n" +
	"  edit,sync zones=saltmarsh-ferries.example names=_acme-challenge types=TXT\n" +
	"Actions: see, check, sweep, report, edit, sync, delegate, place, operate, connect, users.\n" +
	"zones: a zone, or *.NAME for all below a name. names: relative to the zone, @ for the apex, * for any labels."

// readGrants reads grants from the command line.
func readGrants(texts []string) (list []access.Grant, err error) {
	for _, text := range texts {
		g, err := access.ParseGrant(text)
		if err != nil {
			return nil, misuse("grant %q: %s", text, err)
		}
		list = append(list, g)
	}
	return list, nil
}

func (a *app) userAddCommand() *cobra.Command {
	var grants []string
	c := &cobra.Command{Use: "add NAME", Short: "Add a user with its grants, and show the password once", Args: cobra.ExactArgs(1),
		Long:    "Add a user, and print its password once. Without --grant the user is a viewer.\n\n" + grantsHelp,
		Example: "  beacon user add petra --grant operator\n  beacon user add jonas --grant 'editor zones=saltmarsh-ferries.example'",
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := readGrants(grants)
			if err != nil {
				return err
			}
			var made wire.UserAdded
			if err := ask(a, wire.AddUser, wire.NewUser{Name: args[0], Grants: list}, &made); err != nil {
				return err
			}
			if len(list) == 0 {
				list = access.Full(access.Viewer)
			}
			return a.show(made, func() {
				a.printf("%s can sign in. Password, shown this once: %s\nGranted: %s\n", made.Name, made.Password, access.Text(list))
			})
		}}
	c.Flags().StringArrayVar(&grants, "grant", nil, "what the user may do; may be repeated")
	return c
}

func (a *app) userGrantCommand() *cobra.Command {
	return &cobra.Command{Use: "grant NAME GRANT...", Short: "Change what a user may do", Args: cobra.MinimumNArgs(2),
		Long:    "Replace the grants of a user. They count from its next request on; its tokens may no more than the user.\n\n" + grantsHelp,
		Example: "  beacon user grant petra editor\n  beacon user grant jonas 'editor zones=saltmarsh-ferries.example' 'viewer'",
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := readGrants(args[1:])
			if err != nil {
				return err
			}
			if err := ask(a, wire.GrantUser, wire.GrantsChange{Grants: list}, (*wire.None)(nil), args[0]); err != nil {
				return err
			}
			return a.show(wire.NewUser{Name: args[0], Grants: list}, func() { a.printf("%s is granted: %s\n", args[0], access.Text(list)) })
		}}
}

func (a *app) userRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "Remove a user; its sessions and tokens end, what it made stays", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		if err := a.agreed(yes, "Remove the user "+args[0]+"?"); err != nil {
			return err
		}
		if err := ask(a, wire.RemoveUser, wire.None{}, (*wire.None)(nil), args[0]); err != nil {
			return err
		}
		return a.show(wire.NewUser{Name: args[0]}, func() { a.printf("%s is removed and cannot sign in any more.\n", args[0]) })
	}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) userPasswordCommand() *cobra.Command {
	var current, next string
	c := &cobra.Command{Use: "password", Short: "Change your own password; your other sessions end", Args: cobra.NoArgs,
		Long: "Change your own password. It has twelve characters at least. Your other sessions end.\n" +
			"A user who has lost the password gets a new one on the machine of the service: beacon recover-user NAME.",
		RunE: func(*cobra.Command, []string) error {
			old, err := a.secret("BEACON_PASSWORD", current, "Current password: ")
			if err != nil {
				return err
			}
			chosen, err := a.secret("BEACON_NEW_PASSWORD", next, "New password: ")
			if err != nil {
				return err
			}
			if err := ask(a, wire.ChangePassword, wire.PasswordChange{Current: old, New: chosen}, (*wire.None)(nil)); err != nil {
				return err
			}
			return a.show(wire.None{}, func() { a.printf("The password is changed. Your other sessions have ended.\n") })
		}}
	c.Flags().StringVar(&current, "password-file", "", "file with the current password; else BEACON_PASSWORD, else you are asked")
	c.Flags().StringVar(&next, "new-password-file", "", "file with the new password; else BEACON_NEW_PASSWORD, else you are asked")
	return c
}

func (a *app) userSessionsCommand() *cobra.Command {
	return &cobra.Command{Use: "sessions", Short: "List your own sessions, newest first", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListSessions)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for _, s := range list {
				this := ""
				if s.Current {
					this = "this one"
				}
				rows = append(rows, []string{strconv.FormatUint(s.ID, 10), s.Label, s.CreatedAt.Local().Format(time.DateTime), s.ExpiresAt.Local().Format(time.DateTime), this})
			}
			a.table([]string{"SESSION", "FOR", "SINCE", "UNTIL", ""}, rows)
		})
	}}
}

func (a *app) userEndSessionCommand() *cobra.Command {
	return &cobra.Command{Use: "end-session NUMBER", Short: "End one of your own sessions", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		id, err := strconv.ParseUint(args[0], 10, 64)
		if err != nil {
			return misuse("%q is no number of a session; beacon user sessions shows them", args[0])
		}
		if err := ask(a, wire.EndSession, wire.None{}, (*wire.None)(nil), id); err != nil {
			return err
		}
		return a.show(wire.Session{ID: id}, func() { a.printf("Session %d has ended.\n", id) })
	}}
}
