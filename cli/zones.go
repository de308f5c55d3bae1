package cli

import (
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/wire"
)

func (a *app) zoneCommand() *cobra.Command {
	c := &cobra.Command{Use: "zone", Short: "Manage zones and their desired records"}
	c.AddCommand(a.retireCommand(), a.deleteCommand(), a.zoneSettingsCommand(),
		&cobra.Command{Use: "list", Short: "List managed zones", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error { return a.zoneList() }},
		&cobra.Command{Use: "show ZONE", Short: "Show where a zone is placed, and its last syncs", Args: cobra.ExactArgs(1), Annotations: map[string]string{envOutput: "yes"},
			Long: "Shows where a zone is placed, how each provider names it, its nameservers, and the DS records that fit its keys. -o json and -o env\n" +
				"print the same for other programs.",
			Example: "  beacon zone show saltmarsh-ferries.example\n  eval \"$(beacon zone show saltmarsh-ferries.example -o env)\"", RunE: func(_ *cobra.Command, args []string) error { return a.zoneShow(args[0]) }},
		a.zoneHistoryCommand(), a.zoneRestoreCommand(), a.zoneImportCommand(), a.zoneGatherCommand(), a.zoneExportCommand(), a.zoneCheckCommand(), a.zoneConvertCommand(), a.zoneCompareCommand(), a.zoneDetachCommand(), a.zoneGenerateCommand(),
	)
	return c
}

func (a *app) zoneList() error {
	list, err := all(a, wire.ListZones)
	if err != nil {
		return err
	}
	return a.show(list, func() {
		if len(list) == 0 {
			a.printf("No zones yet. Import one (beacon zone import FILE --origin NAME) or define one (beacon apply FILE).\n")
			return
		}
		var rows [][]string
		for _, z := range list {
			var at []string
			for _, p := range z.Placements {
				at = append(at, p.Account)
			}
			rows = append(rows, []string{plain(z.Name), revisionText(z.Revision), strings.Join(at, ", "), z.Description})
		}
		a.table([]string{"ZONE", "DESIRED", "PROVIDERS", "DESCRIPTION"}, rows)
	})
}

func revisionText(r *wire.Revision) string {
	if r == nil {
		return "nothing yet"
	}
	return fmt.Sprintf("revision %d, %d records", r.Number, r.Records)
}

// parseName reads a name that a user typed.
func parseName(text string) (dnsname.Name, error) {
	name, err := dnsname.Parse(text)
	if err != nil {
		return name, misuse("%s", err)
	}
	return name, nil
}

func (a *app) zoneShow(text string) error {
	name, err := parseName(text)
	if err != nil {
		return err
	}
	var z wire.ZoneView
	if err := ask(a, wire.ShowZone, wire.None{}, &z, name); err != nil {
		return err
	}
	if a.output == "env" {
		return a.zoneEnv(z)
	}
	return a.show(z, func() {
		a.printf("%s  %s\n", a.paint(bold, plain(z.Name)), z.Description)
		a.printf("  desired    %s\n", revisionText(z.Revision))
		if z.Registrar != "" {
			a.printf("  registrar  %s\n", z.Registrar)
		}
		if z.Parent != "" {
			a.printf("  parent     %s, managed here: beacon delegate %s\n", z.Parent, plain(z.Name))
		}
		if len(z.Children) > 0 {
			a.printf("  delegates  %s\n", names(z.Children))
		}
		for _, ds := range z.DS {
			a.printf("  DS         %s\n", ds)
		}
		if z.ManagedBy != "" {
			a.printf("  managed by %s\n", z.ManagedBy)
		}
		if len(z.Ignore) > 0 {
			a.printf("  left alone %s\n", strings.Join(z.Ignore, ", "))
		}
		if z.Drafted > 0 {
			a.printf("  draft      %s, not accepted: beacon draft show %s\n", count(z.Drafted, "edit"), plain(z.Name))
		}
		for _, p := range z.Placements {
			lines := wrap(fmt.Sprintf("%s, nameservers %s", p.Account, names(p.Nameservers)), width-13)
			if p.LastSync != nil {
				lines = append(lines, wrap(fmt.Sprintf("last sync %d: %s. %s", p.LastSync.ID, p.LastSync.State, p.LastSync.Message), width-13)...)
			}
			a.printf("  at         %s\n", strings.Join(lines, "\n"+strings.Repeat(" ", 13)))
		}
	})
}

// zoneEnv prints a zone as lines that a shell reads: what other programs need to delegate it.
func (a *app) zoneEnv(z wire.ZoneView) error {
	line := func(name, value string) {
		fmt.Fprintf(a.out, "BEACON_%s='%s'\n", name, strings.ReplaceAll(value, "'", `'\\''`))
	}
	texts := func(list []dnsname.Name) string {
		out := make([]string, len(list))
		for i, n := range list {
			out[i] = n.String()
		}
		return strings.Join(out, " ")
	}
	line("ZONE", z.Name.String())
	line("NAMESERVERS", texts(z.Nameservers))
	ds := make([]string, len(z.DS))
	for i, d := range z.DS {
		ds[i] = string(d)
	}
	line("DS", strings.Join(ds, "\n"))
	line("PLACEMENTS", strconv.Itoa(len(z.Placements)))
	for i, p := range z.Placements {
		of := fmt.Sprintf("PLACEMENT_%d_", i+1)
		line(of+"ACCOUNT", p.Account)
		line(of+"ID", p.ID)
		line(of+"NAMESERVERS", texts(p.Nameservers))
	}
	return nil
}

func (a *app) zoneImportCommand() *cobra.Command {
	var origin string
	var dryRun, yes, partial bool
	c := &cobra.Command{
		Use: "import FILE --origin NAME", Short: "Accept a zone file as desired records", Args: cobra.ExactArgs(1),
		Example: "  beacon zone import demo/saltmarsh-ferries.zone --origin saltmarsh-ferries.example --dry-run",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, err := parseName(origin)
			if err != nil {
				return err
			}
			z, err := a.wholeZoneFile(args[0], zone, partial) // here, where the files are that it may include
			if err != nil {
				return err
			}
			contents := z.Contents()
			z = zonefile.Zone{} // a zone may be large
			text := zonefile.Text(zone, contents)
			var got wire.Imported
			if err := a.importText(zone, filepath.Base(args[0]), text, partial, true, &got); err != nil {
				return err
			}
			if a.output == "table" {
				a.showImport(got)
			}
			if !dryRun {
				if err := a.agreed(yes, "Accept these as the desired records of "+plain(zone)+"?"); err != nil {
					return err
				}
				if err := a.importText(zone, filepath.Base(args[0]), text, partial, false, &got); err != nil {
					return err
				}
			}
			return a.show(got, func() {
				if got.Revision == nil {
					a.printf("Dry run: nothing was changed.\n")
					return
				}
				a.printf("Saved as revision %d of %s. Nothing is written to a provider yet.\n", got.Revision.Number, plain(zone))
			})
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "name of the zone")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	partialFlag(c, &partial)
	_ = c.MarkFlagRequired("origin")
	return c
}

// importText sends a zone file as it is.
func (a *app) importText(zone dnsname.Name, file, text string, partial, dryRun bool, got *wire.Imported) error {
	query := url.Values{"file": {file}, "partial": {strconv.FormatBool(partial)}, "dry_run": {strconv.FormatBool(dryRun)}}
	var fresh wire.Imported
	err := a.send(wire.ImportZone.Method, pathOf(wire.ImportZone.Path, []any{zone})+"?"+query.Encode(), "", rawZoneFile(text), &fresh)
	*got = fresh
	return err
}

func (a *app) showImport(got wire.Imported) {
	a.showRecords(got.Zone, got.Added, got.Removed)
	for _, l := range got.LeftOut {
		a.recordLine(a.paint(dim, "."), got.Zone, l.Record)
		a.printf("      left out: it %s\n", l.Why)
	}
	if more := got.Counts.Added + got.Counts.Removed - len(got.Added) - len(got.Removed); more > 0 {
		a.printf("  and %s more\n", wording.Counted(more, "record"))
	}
	a.printf("%d records added, %d removed, %d as before, %d left out.\n", got.Counts.Added, got.Counts.Removed, got.Same, len(got.LeftOut))
	a.found(got.Findings)
}

func (a *app) zoneExportCommand() *cobra.Command {
	var as string
	var addresses bool
	c := &cobra.Command{Use: "export ZONE", Short: "Print the desired records of a zone", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		write, ok := zoneForms[as]
		if !ok {
			return misuse("--as is canonical, zonefile, json, csv or definition")
		}
		name, err := parseName(args[0])
		if err != nil {
			return err
		}
		if as == "definition" {
			var got wire.ZoneDefinition
			if err := ask(a, wire.ShowDefinition, wire.None{}, &got, name); err != nil {
				return err
			}
			return a.showText(name, as, func(w io.Writer) error { _, err := io.WriteString(w, got.Text); return err })
		}
		list, err := all(a, wire.ListRecords.With("addresses", strconv.FormatBool(addresses)), name)
		if err != nil {
			return err
		}
		return a.showText(name, as, func(w io.Writer) error { return write(w, name, record.NewContents(list)) })
	}}
	c.Flags().StringVar(&as, "as", "zonefile", "canonical, zonefile, json, csv or definition")
	c.Flags().BoolVar(&addresses, "addresses", false, "with addresses in place of ALIAS records")
	return c
}

func (a *app) zoneDetachCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "detach ZONE", Short: "Detach a zone from its definition file, to change it here", Args: cobra.ExactArgs(1),
		Long: "Detach a zone from its definition file, and print its present definition. The file does not change: add what you\n" +
			"change here to it later (beacon zone export ZONE --as definition), and apply it, so that it manages the zone again.",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var z wire.ZoneView
			if err := ask(a, wire.ShowZone, wire.None{}, &z, name); err != nil {
				return err
			}
			if z.ManagedBy != "" {
				if err := a.agreed(yes, fmt.Sprintf("%s is managed by %s, which will not contain changes made here. Detach it?", plain(name), z.ManagedBy)); err != nil {
					return err
				}
			}
			var got wire.ZoneDefinition
			if err := ask(a, wire.DetachZone, wire.None{}, &got, name); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "%s can be changed here now. Its present definition is:\n", plain(name))
			return a.show(got, func() { a.printf("%s", got.Text) })
		}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) zoneGenerateCommand() *cobra.Command {
	var r wire.GenerateRequest
	var file string
	c := &cobra.Command{Use: "generate ZONE", Short: "Print a definition of a new zone, or of one that exists elsewhere", Args: cobra.ExactArgs(1),
		Long: "Prints a definition to look over, change and define. With --new it begins with the house kit; else it holds what another\n" +
			"provider account, or a zone file, has. Nothing is kept.",
		Example: "  beacon zone generate piers.example --new --providers heron-main > piers.beacon.yaml\n  beacon zone generate saltmarsh-ferries.example --from plover-old --providers heron-main",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			r.Zone = name
			if file != "" {
				contents, err := a.soundZoneFile(file, name)
				if err != nil {
					return err
				}
				r.File, r.Text = filepath.Base(file), zonefile.Text(name, contents)
			}
			var got wire.Generated
			if err := ask(a, wire.GenerateDefinition, r, &got); err != nil {
				return err
			}
			return a.show(got, func() { a.printf("%s", got.Text) })
		}}
	c.Flags().BoolVar(&r.New, "new", false, "a new zone: begin with the default kit")
	c.Flags().StringVar(&file, "file", "", "read the records from this zone file")
	c.Flags().StringVar(&r.From, "from", "", "read the records at this provider account; else all are searched")
	c.Flags().StringSliceVar(&r.Providers, "providers", nil, "provider accounts that serve the zone")
	c.Flags().StringVar(&r.Registrar, "registrar", "", "registrar account of the domain")
	c.Flags().StringVar(&r.Description, "description", "", "description of the zone")
	return c
}
