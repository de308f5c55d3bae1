package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/service"
)

// backupCommand writes an archive beside running instances, on the same settings.
func backupCommand() *cobra.Command {
	var settings string
	c := &cobra.Command{Use: "backup ARCHIVE", Short: "Write database, settings and profiles into one archive, while the service goes on", Args: cobra.ExactArgs(1),
		Long: "Write database, settings and profiles into one archive, while the service goes on.\n\nAll of the database is as it was at one moment. The key that credentials are sealed with is not in the archive: " +
			"keep a copy of it apart from it. The settings are in it as they are, with the password of the database.",
		Example: "  beacon backup /srv/backup/beacon-monday.zip",
		RunE: func(cmd *cobra.Command, args []string) error {
			read, err := service.ReadSettings(settings)
			if err != nil {
				return err
			}
			temporary, err := os.CreateTemp(filepath.Dir(args[0]), ".beacon-backup-")
			if err != nil {
				return err
			}
			defer os.Remove(temporary.Name())
			far := meter.New(cmd.ErrOrStderr(), "backup, rows")
			rows, err := service.Backup(context.Background(), settings, read, temporary, func(done, of int64) { far.At(done, of, "") })
			far.Clear()
			if closeErr := temporary.Close(); err == nil {
				err = closeErr
			}
			if err == nil {
				err = os.Rename(temporary.Name(), args[0])
			}
			if err != nil {
				return fmt.Errorf("backup: %w. No archive was written", err)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s\n  holds %d rows, the settings and the profiles.\nIt does not hold the key %s.\n  Credentials cannot be read without it: keep a copy elsewhere.\n", args[0], rows, read.KeyFile)
			return nil
		}}
	c.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file of the service")
	return c
}

// restoreCommand reads an archive into an empty database.
func restoreCommand() *cobra.Command {
	var settings string
	c := &cobra.Command{Use: "restore ARCHIVE", Short: "Read an archive into an empty database; the service then begins held", Args: cobra.ExactArgs(1),
		Long: "Read an archive into an empty database. The service then begins held: it looks, and writes nothing to providers and registrars until a user releases it (beacon hold), " +
			"since what is outside may be newer than the archive.",
		RunE: func(cmd *cobra.Command, args []string) error {
			far := meter.New(cmd.ErrOrStderr(), "restore, octets")
			r, err := service.Restore(context.Background(), args[0], settings, func(done, of int64) { far.At(done, of, "") })
			far.Clear()
			if err != nil {
				return fmt.Errorf("restore: %w", err)
			}
			out := cmd.OutOrStdout()
			if r.SettingsMade {
				fmt.Fprintf(out, "There were no settings. Those of the archive are now in %s; nothing else was done.\nCheck the database and the paths in it, then repeat: beacon restore %s --settings %s\n", settings, args[0], settings)
				return nil
			}
			fmt.Fprintf(out, "%d rows of %s are in the database; %d profiles were written.\n", r.Rows, r.ArchiveMadeAt.Local().Format(time.DateTime), r.ProfilesMade)
			if r.KeyMissing {
				fmt.Fprintf(out, "The key %s is missing. Put its copy there before you start the service, or give every credential again (beacon provider rotate).\n", r.KeyFile)
			}
			fmt.Fprintf(out, "Start the service: beacon serve --settings %s. It is held and changes nothing outside; look with beacon hold show.\n", settings)
			return nil
		}}
	c.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file of the service")
	return c
}
