package cli

import (
	"beacon/wire"

	"github.com/spf13/cobra"
)

func (a *app) personCommand() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "People who can sign in"}
	c.AddCommand(
		&cobra.Command{Use: "list", Short: "Everybody who can sign in", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
			names, err := all(a, wire.ListPeople)
			if err != nil {
				return err
			}
			return a.show(names, func() {
				for _, name := range names {
					a.printf("%s\n", name)
				}
			})
		}},
		&cobra.Command{Use: "add NAME", Short: "Let another person sign in", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
			var made wire.PersonAdded
			if err := ask(a, wire.AddPerson, wire.NewPerson{Name: args[0]}, &made); err != nil {
				return err
			}
			return a.show(made, func() { a.printf("%s can sign in. Password, shown this once: %s\n", made.Name, made.Password) })
		}})
	return c
}
