package cli

import (
	"github.com/spf13/cobra"

	"beacon/wire"
)

func (a *app) channelCommand() *cobra.Command {
	c := &cobra.Command{Use: "channel", Short: "Manage notification channels"}
	list := &cobra.Command{Use: "list", Short: "List notification channels", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		items, err := all(a, wire.ListChannels)
		if err != nil {
			return err
		}
		return a.show(items, func() {
			if len(items) == 0 {
				a.printf("There is no channel. Name mail addresses or webhooks in the settings, under notifications.\n")
				return
			}
			var rows [][]string
			for _, i := range items {
				rows = append(rows, []string{i.Name, i.Kind, i.To})
			}
			a.table([]string{"CHANNEL", "KIND", "TO"}, rows)
		})
	}}
	try := &cobra.Command{Use: "test CHANNEL", Short: "Send a test notification over a channel", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		if err := ask(a, wire.TestChannel, wire.None{}, nil, args[0]); err != nil {
			return err
		}
		a.printf("Channel %s: test delivered.\n", args[0])
		return nil
	}}
	c.AddCommand(list, try)
	return c
}
