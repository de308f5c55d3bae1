package main

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"beacon/service"
	"beacon/service/users"
)

// recovery reads where the database is from the settings of the service.
func recovery(settings string) (users.Recovery, error) {
	read, err := service.ReadSettings(settings)
	return users.Recovery{Database: read.Database, Reach: read.AllowedNetworks}, err
}

// firstUserCommand makes the first user without the link that a first start prints, for installations that a program makes.
func firstUserCommand() *cobra.Command {
	var settings, file string
	c := &cobra.Command{Use: "first-user", Short: "Make the first user, admin, on the machine of the service", Args: cobra.NoArgs,
		Long: "Make the first user, admin, an owner, on the machine of the service. The password is the first line of a file. By hand, the link that the\n" +
			"first start prints is easier.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := os.ReadFile(file)
			if err != nil {
				return fmt.Errorf("cannot read the password file %s: give one with --password-file", file)
			}
			at, err := recovery(settings)
			if err != nil {
				return err
			}
			password, _, _ := strings.Cut(string(text), "\n")
			if err := users.AddFirst(context.Background(), at, password); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), "admin can sign in: beacon sign-in --as admin")
			return nil
		}}
	c.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file of the service")
	c.Flags().StringVar(&file, "password-file", "", "file with the password")
	return c
}

// recoverUserCommand sets a new password of a user. It needs the settings file of the service, and so an account on its machine.
func recoverUserCommand() *cobra.Command {
	var settings string
	c := &cobra.Command{Use: "recover-user NAME", Short: "Give a user a new password, on the machine of the service; its sessions end", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := recovery(settings)
			if err != nil {
				return err
			}
			password, err := users.Recover(context.Background(), at, args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s can sign in. Password, shown this once: %s\n", args[0], password)
			return nil
		}}
	c.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file of the service")
	return c
}
