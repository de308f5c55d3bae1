package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/definition"
	"beacon/core/rules"
	"beacon/service"
)

func (a *app) defineCommand() *cobra.Command {
	var check, dryRun, yes bool
	var allow []string
	c := &cobra.Command{
		Use: "define FILE|FOLDER…", Short: "Take definition files as what zones should contain, and put them out", Args: cobra.MinimumNArgs(1),
		Example: "  beacon define demo/saltmarsh-ferries.beacon.yaml\n  beacon define zones/ --check",
		RunE: func(_ *cobra.Command, args []string) error {
			files, err := readDefinitions(args)
			if err != nil {
				return err
			}
			if check {
				return a.defineCheck(files)
			}
			var planned page[service.Defined]
			if err := a.call("POST", "/definitions", map[string]any{"files": files, "dry_run": true}, &planned); err != nil {
				return err
			}
			if a.output == "table" {
				for _, d := range planned.Items {
					a.showDefined(d, !yes || dryRun || len(d.At) == 0) // else the change lists follow at once
				}
			}
			if dryRun {
				return a.show(planned.Items, func() { a.printf("Dry run: nothing was changed.\n") })
			}
			if err := a.agreed(yes, "Take this as what these zones should contain?"); err != nil {
				return err
			}
			var done page[service.Defined]
			if err := a.call("POST", "/definitions", map[string]any{"files": files, "dry_run": false}, &done); err != nil {
				return err
			}
			if err := a.show(done.Items, func() {
				for _, d := range done.Items {
					a.printf("%s: revision %d is what it should contain.\n", plain(d.Zone), d.Revision.Number)
				}
			}); err != nil {
				return err
			}
			for _, d := range done.Items {
				if len(d.At) > 0 {
					if err := a.syncZone(plain(d.Zone), syncOptions{yes: yes, allow: allow}); err != nil {
						return err
					}
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&check, "check", false, "look for faults only; needs no service")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be changed")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().StringSliceVar(&allow, "allow", nil, "guards to say yes to, by code")
	return c
}

// readDefinitions reads files, and all *.beacon.yaml below folders.
func readDefinitions(paths []string) ([]definition.File, error) {
	var files []definition.File
	add := func(path string) error {
		text, err := os.ReadFile(path)
		if err != nil {
			return misuse("%s", err)
		}
		files = append(files, definition.File{Name: path, Text: string(text)})
		return nil
	}
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return nil, misuse("%s", err)
		}
		if !info.IsDir() {
			if err := add(path); err != nil {
				return nil, err
			}
			continue
		}
		err = filepath.WalkDir(path, func(at string, entry fs.DirEntry, err error) error {
			if err == nil && !entry.IsDir() && strings.HasSuffix(at, ".beacon.yaml") {
				err = add(at)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if len(files) == 0 {
		return nil, misuse("there is no *.beacon.yaml in %s", strings.Join(paths, ", "))
	}
	return files, nil
}

func (a *app) defineCheck(files []definition.File) error {
	zones, faults := definition.Read(files)
	if len(faults) > 0 {
		if a.output != "table" {
			if err := a.show(faults, nil); err != nil {
				return err
			}
			return exit{ExitFailed, ""}
		}
		for _, f := range faults {
			a.printf("%s\n", f.Error())
		}
		return exit{ExitFailed, fmt.Sprintf("%d faults", len(faults))}
	}
	records := 0
	for _, z := range zones {
		records += z.Contents.Len()
		a.found(rules.Check(rules.Zone{Name: z.Name, Contents: z.Contents, Written: z.Written}))
	}
	a.printf("No faults: %d zones, %d records.\n", len(zones), records)
	return nil
}

func (a *app) showDefined(d service.Defined, withRecords bool) {
	what := "known"
	if d.New {
		what = "new"
	}
	a.printf("%s  (%s)\n", a.paint(bold, plain(d.Zone)), what)
	if withRecords {
		a.showRecords(d.Zone, d.Added, d.Removed)
	}
	a.printf("  records    %d added, %d removed, %d as before\n", len(d.Added), len(d.Removed), d.Same)
	if len(d.At) > 0 {
		a.printf("  served at  %s", strings.Join(d.At, ", "))
		if len(d.NewAt) > 0 {
			a.printf("  (new: %s)", strings.Join(d.NewAt, ", "))
		}
		a.printf("\n")
	}
	if d.Registrar != "" {
		a.printf("  registrar  %s\n", d.Registrar)
	}
	a.found(d.Findings)
}
