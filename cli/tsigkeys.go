package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/wire"
)

func (a *app) tsigKeyCommand() *cobra.Command {
	c := &cobra.Command{Use: "tsig-key", Short: "Manage TSIG keys of dynamic updates (RFC 2136)",
		Long: "Manage TSIG keys (RFC 8945). A client that sends dynamic updates, such as nsupdate or a DHCP server, signs them\n" +
			"with a key. A key is for one dynamic host, or for an uplink of a location; it changes nothing but addresses of hosts."}
	c.AddCommand(a.tsigKeyListCommand(), a.tsigKeyAddCommand(), a.tsigKeyRemoveCommand())
	return c
}

func (a *app) tsigKeyListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List TSIG keys of dynamic updates", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListTSIGKeys)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list) == 0 {
				a.printf("There is no TSIG key. Create one for each client: beacon tsig-key add HOST\n")
				return
			}
			var rows [][]string
			for _, k := range list {
				rows = append(rows, []string{k.Name, k.For, k.Algorithm, usedAt(k.LastUsedAt), k.LastUsedFrom})
			}
			a.table([]string{"KEY", "FOR", "ALGORITHM", "LAST USED", "FROM"}, rows)
		})
	}}
}

func (a *app) tsigKeyAddCommand() *cobra.Command {
	var n wire.NewTSIGKey
	var file string
	c := &cobra.Command{Use: "add HOST | LOCATION/UPLINK", Short: "Create a TSIG key and show its secret once", Args: cobra.ExactArgs(1),
		Long: "Create a TSIG key with which a client updates a dynamic host, or the hosts of a location over one uplink.\n" +
			"The secret is shown this once. With --key-file it is written to a file that nsupdate -k reads.",
		Example: "  beacon tsig-key add cam.saltmarsh-ferries.example --key-file cam.key\n" +
			"  beacon tsig-key add north-pier/fibre --algorithm hmac-sha512",
		RunE: func(_ *cobra.Command, args []string) error {
			n.For = args[0]
			var k wire.TSIGKeyAdded
			if err := ask(a, wire.AddTSIGKey, n, &k); err != nil {
				return err
			}
			if file != "" {
				if err := keepToken(file, strings.TrimSuffix(k.File, "\n")); err != nil {
					return fmt.Errorf("the key was created, but could not be stored: %w; remove it, and create another one: beacon tsig-key remove %s", err, k.Name)
				}
			}
			return a.show(k, func() {
				if file != "" {
					a.printf("The TSIG key %s of %s is in %s.\n", k.Name, k.For, file)
				} else {
					a.printf("The TSIG key %s of %s, shown this once:\n\n%s\n", k.Name, k.For, k.File)
				}
				if k.Note != "" {
					a.printf("%s\n", k.Note)
				}
			})
		}}
	c.Flags().StringVar(&n.Name, "name", "", "name of the key; by default that of the host, or LOCATION-UPLINK")
	c.Flags().StringVar(&n.Algorithm, "algorithm", "hmac-sha256", "hmac-sha224, -sha256, -sha384, -sha512, or -sha1 for old clients")
	c.Flags().StringVar(&file, "key-file", "", "write the key to this file instead of showing it")
	return c
}

func (a *app) tsigKeyRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "Remove a TSIG key; updates that it signs are refused", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		if err := a.agreed(yes, "Remove the TSIG key "+args[0]+"?"); err != nil {
			return err
		}
		if err := ask(a, wire.RemoveTSIGKey, wire.None{}, nil, args[0]); err != nil {
			return err
		}
		return a.show(map[string]any{"name": args[0], "removed": true}, func() {
			a.printf("Removed the TSIG key %s. Updates that it signs are refused. No address changed.\n", args[0])
		})
	}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
