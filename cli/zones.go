package cli

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
	"beacon/wire"
)

func (a *app) zoneCommand() *cobra.Command {
	c := &cobra.Command{Use: "zone", Short: "Zones and what they should contain"}
	c.AddCommand(a.retireCommand(), a.deleteCommand(), a.careCommand(),
		&cobra.Command{Use: "list", Short: "Zones that are looked after", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error { return a.zoneList() }},
		&cobra.Command{Use: "show ZONE", Short: "Where a zone is served, and its last syncs", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error { return a.zoneShow(args[0]) }},
		a.zoneHistoryCommand(), a.zoneRestoreCommand(), a.zoneImportCommand(), a.zoneExportCommand(), a.zoneCheckCommand(), a.zoneConvertCommand(), a.zoneCompareCommand(), a.zoneTakeoverCommand(), a.zoneSketchCommand(),
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
			a.printf("No zones yet. Import one (beacon zone import FILE --origin NAME) or define one (beacon define FILE).\n")
			return
		}
		var rows [][]string
		for _, z := range list {
			var at []string
			for _, p := range z.Placements {
				at = append(at, p.Account)
			}
			rows = append(rows, []string{plain(z.Name), revisionText(z.Revision), strings.Join(at, ", "), z.Label})
		}
		a.table([]string{"ZONE", "WANTED", "AT", "LABEL"}, rows)
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
	return a.show(z, func() {
		a.printf("%s  %s\n", a.paint(bold, plain(z.Name)), z.Label)
		a.printf("  wanted     %s\n", revisionText(z.Revision))
		if z.Registrar != "" {
			a.printf("  registrar  %s\n", z.Registrar)
		}
		if z.LedBy != "" {
			a.printf("  led by     %s\n", z.LedBy)
		}
		if len(z.Leave) > 0 {
			a.printf("  left alone %s\n", strings.Join(z.Leave, ", "))
		}
		if z.Drafted > 0 {
			a.printf("  draft      %s, not put out: beacon draft show %s\n", count(z.Drafted, "edit"), plain(z.Name))
		}
		for _, p := range z.Placements {
			a.printf("  at         %s, nameservers %s\n", p.Account, names(p.Nameservers))
			if p.LastSync != nil {
				a.printf("             last sync %d: %s. %s\n", p.LastSync.ID, p.LastSync.State, p.LastSync.Message)
			}
		}
	})
}

func (a *app) zoneImportCommand() *cobra.Command {
	var origin string
	var dryRun, yes bool
	c := &cobra.Command{
		Use: "import FILE --origin NAME", Short: "Take a zone file as what a zone should contain", Args: cobra.ExactArgs(1),
		Example: "  beacon zone import demo/saltmarsh-ferries.zone --origin saltmarsh-ferries.example --dry-run",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, err := parseName(origin)
			if err != nil {
				return err
			}
			contents, err := a.soundZoneFile(args[0], zone) // here, where the files are that it may include
			if err != nil {
				return err
			}
			body := wire.Import{File: filepath.Base(args[0]), Text: zonefile.Text(zone, contents), DryRun: true}
			var got wire.Imported
			if err := ask(a, wire.ImportZone, body, &got, zone); err != nil {
				return err
			}
			if a.output == "table" {
				a.showImport(got)
			}
			if !dryRun {
				if err := a.agreed(yes, "Take these as the contents of "+plain(zone)+"?"); err != nil {
					return err
				}
				body.DryRun = false
				if err := ask(a, wire.ImportZone, body, &got, zone); err != nil {
					return err
				}
			}
			return a.show(got, func() {
				if got.Revision == nil {
					a.printf("Dry run: nothing was changed.\n")
					return
				}
				a.printf("Taken as revision %d of %s. Nothing is written to a provider yet.\n", got.Revision.Number, plain(zone))
			})
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "name of the zone")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be done")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	_ = c.MarkFlagRequired("origin")
	return c
}

func (a *app) showImport(got wire.Imported) {
	a.showRecords(got.Zone, got.Added, got.Removed)
	for _, l := range got.LeftOut {
		a.recordLine(a.paint(dim, "."), got.Zone, l.Record)
		a.printf("      left out: it %s\n", l.Why)
	}
	a.printf("%d records added, %d removed, %d as before, %d left out.\n", len(got.Added), len(got.Removed), got.Same, len(got.LeftOut))
	a.found(got.Findings)
}

func (a *app) zoneExportCommand() *cobra.Command {
	var as string
	var addresses bool
	c := &cobra.Command{Use: "export ZONE", Short: "Print what a zone should contain", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
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
			a.printf("%s", got.Text)
			return nil
		}
		list, err := all(a, wire.ListRecords.With("addresses", strconv.FormatBool(addresses)), name)
		if err != nil {
			return err
		}
		return write(a.out, name, record.NewContents(list))
	}}
	c.Flags().StringVar(&as, "as", "zonefile", "canonical, zonefile, json, csv or definition")
	c.Flags().BoolVar(&addresses, "addresses", false, "with addresses in the place of ALIAS records, as every nameserver can serve it")
	return c
}

func (a *app) zoneTakeoverCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "takeover ZONE", Short: "Take a zone out of the hands of its definition file, to change it here", Args: cobra.ExactArgs(1),
		Long: "Ends that a definition file leads a zone, and prints the definition as it stands. The file knows nothing of it: put what you\n" +
			"change here into it later (beacon zone export ZONE --as definition), and define it, so that it leads again.",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var z wire.ZoneView
			if err := ask(a, wire.ShowZone, wire.None{}, &z, name); err != nil {
				return err
			}
			if z.LedBy != "" {
				if err := a.agreed(yes, fmt.Sprintf("%s is led by %s, which will know nothing of changes made here. Take it over?", plain(name), z.LedBy)); err != nil {
					return err
				}
			}
			var got wire.ZoneDefinition
			if err := ask(a, wire.TakeOverZone, wire.None{}, &got, name); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "%s can be changed here now. As it stands, its definition is:\n", plain(name))
			return a.show(got, func() { a.printf("%s", got.Text) })
		}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) zoneSketchCommand() *cobra.Command {
	var r wire.SketchRequest
	var file string
	c := &cobra.Command{Use: "sketch ZONE", Short: "Print a definition to begin with: of a new zone, or of one that is elsewhere", Args: cobra.ExactArgs(1),
		Long: "Prints a definition to look over, change and define. With --new it begins with the house kit; else it holds what another\n" +
			"provider account, or a zone file, has. Nothing is kept.",
		Example: "  beacon zone sketch piers.example --new --at heron-main > piers.beacon.yaml\n  beacon zone sketch piers.example --from plover-old --at heron-main",
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
			var got wire.Sketch
			if err := ask(a, wire.SketchZone, r, &got); err != nil {
				return err
			}
			return a.show(got, func() { a.printf("%s", got.Text) })
		}}
	c.Flags().BoolVar(&r.New, "new", false, "it exists nowhere yet: begin with the house kit")
	c.Flags().StringVar(&file, "file", "", "take the records of this zone file")
	c.Flags().StringVar(&r.From, "from", "", "read them at this provider account; else all are looked through")
	c.Flags().StringSliceVar(&r.At, "at", nil, "provider accounts that shall serve it")
	c.Flags().StringVar(&r.Registrar, "registrar", "", "registrar account of the domain")
	c.Flags().StringVar(&r.Label, "label", "", "what it is for")
	return c
}
