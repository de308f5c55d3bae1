package cli

import (
	"beacon/wire"

	"github.com/spf13/cobra"
)

func (a *app) userCommand() *cobra.Command {
	c := &cobra.Command{Use: "user", Short: "Manage users"}
	c.AddCommand(
		&cobra.Command{Use: "list", Short: "List users", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
			names, err := all(a, wire.ListUsers)
			if err != nil {
				return err
			}
			return a.show(names, func() {
				for _, name := range names {
					a.printf("%s\n", name)
				}
			})
		}},
		&cobra.Command{Use: "add NAME", Short: "Add a user and show the password once", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
			var made wire.UserAdded
			if err := ask(a, wire.AddUser, wire.NewUser{Name: args[0]}, &made); err != nil {
				return err
			}
			return a.show(made, func() { a.printf("%s can sign in. Password, shown this once: %s\n", made.Name, made.Password) })
		}})
	return c
}
