package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"beacon/service"
	"beacon/service/accounts"
	"beacon/store"
)

// keyCommand renews the key that credentials are sealed with. It works beside running instances, on the same settings.
func keyCommand() *cobra.Command {
	c := &cobra.Command{Use: "key", Short: "The key that stored credentials are sealed with"}
	var settings string
	renew := &cobra.Command{Use: "rotate", Short: "Seal every credential with a new key; the service keeps running", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			read, err := service.ReadSettings(settings)
			if err != nil {
				return err
			}
			n, err := accounts.RotateKey(context.Background(), accounts.KeyRotation{Database: read.Database, KeyFile: read.KeyFile, Reach: read.AllowedNetworks})
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d credentials are sealed with a new key, which is in %s. Keep a copy of it apart from the database's.\n", n, read.KeyFile)
			return nil
		}}
	renew.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file of the service")
	create := &cobra.Command{Use: "create", Short: "Create a key where the old one is lost; each account needs its credential again", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			read, err := service.ReadSettings(settings)
			if err == nil {
				err = store.CreateKey(read.KeyFile)
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "The key %s is new. Credentials that were sealed with the one before cannot be read:\ngive each account its credential again, with beacon provider rotate or beacon registrar rotate.\n", read.KeyFile)
			return nil
		}}
	create.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file of the service")
	c.AddCommand(renew, create)
	return c
}
