package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/definition"
	"beacon/core/rules"
	"beacon/folder"
	"beacon/wire"
)

func (a *app) applyCommand() *cobra.Command {
	var check, dryRun, yes, once, schema bool
	var allow []string
	var why string
	c := &cobra.Command{
		Use: "apply FILE|FOLDER…", Short: "Accept definition files as desired records, and sync their zones",
		Long: "Accept definition files, or all *.beacon.yaml below folders, as desired records, and sync their zones. From then on\n" +
			"the files manage these zones: edits elsewhere are refused until a user detaches a zone\n" +
			"(beacon zone detach). With --once the zones stay editable here.",
		Example: "  beacon apply demo/saltmarsh-ferries.beacon.yaml\n  beacon apply zones/ --check\n  beacon apply --schema > beacon.schema.json",
		RunE: func(_ *cobra.Command, args []string) error {
			if schema {
				a.printf("%s", definition.Schema)
				return nil
			}
			if len(args) == 0 {
				return misuse("name definition files, or a folder of them")
			}
			files, err := readDefinitions(args)
			if err != nil {
				return err
			}
			if check {
				return a.defineCheck(files)
			}
			var planned wire.Page[wire.Applied]
			if err := ask(a, wire.ApplyDefinitions, wire.ApplyRequest{Files: files, DryRun: true, Manage: !once}, &planned); err != nil {
				return err
			}
			if a.output == "table" {
				for _, d := range planned.Items {
					a.showApplied(d, !yes || dryRun || len(d.Providers) == 0) // else the change lists follow at once
				}
			}
			if dryRun {
				return a.show(planned.Items, func() { a.printf("Dry run: nothing was changed.\n") })
			}
			if err := a.agreed(yes, "Accept as desired records?"); err != nil {
				return err
			}
			var done wire.Page[wire.Applied]
			if err := ask(a, wire.ApplyDefinitions, wire.ApplyRequest{Files: files, Manage: !once, Reason: why}, &done); err != nil {
				return err
			}
			if err := a.show(done.Items, func() {
				for _, d := range done.Items {
					a.printf("%s: saved as revision %d.\n", plain(d.Zone), d.Revision.Number)
				}
			}); err != nil {
				return err
			}
			for _, d := range done.Items {
				if len(d.Providers) > 0 {
					if err := a.syncZone(plain(d.Zone), syncOptions{yes: yes, allow: allow}); err != nil {
						return err
					}
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&check, "check", false, "find faults only; needs no service")
	c.Flags().BoolVar(&once, "once", false, "apply the files once; the zones stay editable here")
	c.Flags().BoolVar(&schema, "schema", false, "print the JSON Schema of definition files, for editors")
	c.Flags().StringVar(&why, "reason", "", "reason, kept with the revision")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().StringSliceVar(&allow, "allow", nil, "allow this guard, by its code; may be repeated")
	return c
}

// readDefinitions reads files, and all *.beacon.yaml below folders.
func readDefinitions(paths []string) ([]definition.File, error) {
	var files []definition.File
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return nil, misuse("%s", err)
		}
		if !info.IsDir() {
			f, err := folder.Definition(path, os.LookupEnv)
			if err != nil {
				return nil, misuse("%s", err)
			}
			files = append(files, f)
			continue
		}
		below, err := folder.Definitions(path, os.LookupEnv)
		if err != nil {
			return nil, misuse("%s", err)
		}
		files = append(files, below...)
	}
	if len(files) == 0 {
		return nil, misuse("there is no *.beacon.yaml in %s", strings.Join(paths, ", "))
	}
	return files, nil
}

func (a *app) defineCheck(files []definition.File) error {
	read, faults := definition.Read(files)
	zones := read.Zones
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
		return exit{ExitFailed, count(len(faults), "fault")}
	}
	records := 0
	for _, z := range zones {
		records += z.Contents.Len()
		a.found(rules.Check(rules.Zone{Name: z.Name, Contents: z.Contents, Written: z.Written}))
	}
	a.printf("No faults: %s, %s, %s.\n", count(len(zones), "zone"), count(records, "record"), count(len(read.Kits), "kit"))
	return nil
}

func (a *app) showApplied(d wire.Applied, withRecords bool) {
	what := "known"
	if d.New {
		what = "new"
	}
	a.printf("%s  (%s)\n", a.paint(bold, plain(d.Zone)), what)
	if withRecords {
		a.showRecords(d.Zone, nil, d.Removed)
		for i, r := range d.Added {
			a.recordLine(a.paint(green, "+"), d.Zone, r)
			if i < len(d.From) && d.From[i] != "" {
				a.printf("      from kit %s\n", d.From[i])
			}
		}
	}
	a.printf("  records    %d added, %d removed, %d as before\n", len(d.Added), len(d.Removed), d.Same)
	if len(d.Providers) > 0 {
		a.printf("  served at  %s", strings.Join(d.Providers, ", "))
		if len(d.NewProviders) > 0 {
			a.printf("  (new: %s)", strings.Join(d.NewProviders, ", "))
		}
		a.printf("\n")
	}
	if d.Registrar != "" {
		a.printf("  registrar  %s\n", d.Registrar)
	}
	if len(d.Kits) > 0 {
		a.printf("  kits       %s\n", strings.Join(d.Kits, ", "))
	}
	if d.Detached {
		a.printf("  %s  a user detached this zone from its file; changes made here since then are in the list above\n", a.paint(amber, "note"))
	}
	if d.Drafted > 0 {
		a.printf("  %s  its draft has %s, which these files know nothing of\n", a.paint(amber, "note"), count(d.Drafted, "edit"))
	}
	a.found(d.Findings)
}
