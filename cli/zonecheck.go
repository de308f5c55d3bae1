package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/rules"
	"beacon/wire"
)

func (a *app) zoneCheckCommand() *cobra.Command {
	var file string
	var partial bool
	c := &cobra.Command{
		Use: "check ZONE", Short: "Check the desired records of a zone, or a zone file", Args: cobra.ExactArgs(1),
		Long: "Check the desired records of a zone or, with --file, a zone file; the latter needs no service.\n" +
			"All codes: docs/findings.md.\n\nExit codes: 0 no errors, 1 errors or faults, 64 misuse.",
		Example: "  beacon zone check saltmarsh-ferries.example\n  beacon zone check saltmarsh-ferries.example --file demo/saltmarsh-ferries.zone",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var found []rules.Found
			if file == "" {
				found, err = all(a, wire.ListFindings, name)
			} else {
				found, err = a.checkFile(file, name, partial)
			}
			if err != nil {
				return err
			}
			if err := a.show(found, func() { a.showFound(found) }); err != nil {
				return err
			}
			if len(rules.Errors(found)) > 0 {
				return exit{ExitFailed, ""}
			}
			return nil
		},
	}
	c.Flags().StringVar(&file, "file", "", "check this zone file instead; - for standard input")
	partialFlag(c, &partial)
	return c
}

func (a *app) checkFile(file string, zone dnsname.Name, partial bool) ([]rules.Found, error) {
	z, err := a.wholeZoneFile(file, zone, partial)
	if err != nil {
		return nil, err
	}
	return rules.Check(rules.Zone{Name: zone, Contents: z.Contents(), Written: z.Records}), nil
}

func (a *app) showFound(found []rules.Found) {
	a.found(found)
	counts := map[finding.Severity]int{}
	for _, f := range found {
		counts[f.Severity]++
	}
	a.printf("%s, %s, %s.\n", count(counts[finding.Error], "error"), count(counts[finding.Warning], "warning"), count(counts[finding.Notice], "notice"))
}

// found prints what the rules say, with what would fix it.
func (a *app) found(list []rules.Found) {
	for _, f := range list {
		a.findings([]finding.Finding{f.Finding})
		for _, e := range f.Fix {
			if !e.Before.IsZero() {
				a.printf("           %s %s\n", a.paint(red, "-"), e.Before)
			}
			if !e.After.IsZero() {
				a.printf("           %s %s\n", a.paint(green, "+"), e.After)
			}
		}
	}
}

func (a *app) sayFaults(file string, faults []fault) error {
	for _, f := range faults {
		fmt.Fprintln(a.err, f.Error())
	}
	return exit{ExitFailed, count(len(faults), "fault") + " in " + file}
}
