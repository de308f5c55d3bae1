package cli

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/wire"
)

// gathering is what the options of zone gather say.
type gathering struct {
	request              wire.GatheringRequest
	file                 string
	last, accept         bool
	afterwards           bool
	keep, leave, aliases []string
	reason               string
	dryRun, yes          bool
}

func (a *app) zoneGatherCommand() *cobra.Command {
	var g gathering
	c := &cobra.Command{Use: "gather ZONE", Short: "Find the records of a domain where it is served now; accept them", Args: cobra.ExactArgs(1),
		Long: "Reads the zone from the connected account whose nameservers are active, or by a zone transfer, or along its NSEC chain. Where none of\n" +
			"these is possible, its nameservers are asked for usual names, and for all that those lead to: name others with --name, or bring a zone\n" +
			"file with --file. Each source says how complete it is. Nothing is changed anywhere; --accept saves what was found as desired records.\n\n" +
			"Exit codes: 0 complete, 1 perhaps incomplete or failed, 64 misuse.",
		Example: "  beacon zone gather saltmarsh-ferries.example\n  beacon zone gather saltmarsh-ferries.example --name pier-cam,tide.lab --file old.zone\n" +
			"  beacon zone gather saltmarsh-ferries.example --accept --alias '@ A=web.harbour-host.example'",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			if g.accept {
				return a.acceptGathered(name, g)
			}
			if len(g.keep)+len(g.leave)+len(g.aliases) > 0 || g.dryRun || g.afterwards {
				return misuse("--keep, --leave, --alias, --afterwards and --dry-run go with --accept")
			}
			return a.gather(name, g)
		}}
	c.Flags().StringVar(&g.request.Account, "account", "", "provider account to read from; else the one whose nameservers are active")
	c.Flags().StringVar(&g.file, "file", "", "zone file, as one more source")
	c.Flags().StringSliceVar(&g.request.Names, "name", nil, "names that the zone is known to have, relative to it")
	c.Flags().BoolVar(&g.last, "last", false, "show the last result; gather nothing")
	c.Flags().BoolVar(&g.accept, "accept", false, "save the last result as desired records")
	c.Flags().StringArrayVar(&g.keep, "keep", nil, "with --accept: keep this set as it was seen, such as 'www A'")
	c.Flags().StringArrayVar(&g.leave, "leave", nil, "with --accept: leave this set out")
	c.Flags().StringArrayVar(&g.aliases, "alias", nil, "with --accept: an alias in its place, such as '@ A=web.example'")
	c.Flags().StringVar(&g.reason, "reason", "", "why, for the logbook")
	c.Flags().BoolVar(&g.afterwards, "afterwards", false, "with --accept, while the domain moves: propose your present records as a draft once no cache asks the old nameservers")
	c.Flags().BoolVar(&g.dryRun, "dry-run", false, "with --accept: show what would change; change nothing")
	c.Flags().BoolVar(&g.yes, "yes", false, "do not ask")
	return c
}

// gather begins a gathering, unless the last one is to be shown, and follows it to its end.
func (a *app) gather(name dnsname.Name, g gathering) error {
	var got wire.Gathering
	if g.last {
		if err := ask(a, wire.ShowGathering, wire.None{}, &got, name); err != nil {
			return err
		}
	} else {
		if g.file != "" {
			contents, err := a.soundZoneFile(g.file, name)
			if err != nil {
				return err
			}
			g.request.File, g.request.Text = filepath.Base(g.file), zonefile.Text(name, contents)
		}
		if err := ask(a, wire.BeginGathering, g.request, &got, name); err != nil {
			return err
		}
	}
	far := meter.New(a.err, "gathering")
	for got.FinishedAt == nil {
		time.Sleep(verifyPause)
		if err := ask(a, wire.ShowGathering, wire.None{}, &got, name); err != nil {
			return err
		}
		if a.output == "table" {
			far.At(0, 0, got.Step)
		}
	}
	far.Clear()
	err := a.show(got, func() { a.showGathering(got) })
	if err == nil && (got.State == wire.GatheringFailed || got.Claim != gather.Complete) {
		return exit{ExitFailed, ""}
	}
	return err
}

func (a *app) showGathering(g wire.Gathering) {
	zone := plain(g.Domain)
	if g.Problem != "" {
		a.printf("%s: %s\n", zone, g.Problem)
		return
	}
	rows := [][]string{}
	for _, s := range g.Sources {
		rows = append(rows, []string{kindOfSource(s.Kind), s.Name, string(s.Claim), fmt.Sprint(s.Sets), s.Why})
	}
	a.table([]string{"SOURCE", "FROM", "COMPLETE", "SETS", "WHY"}, rows)
	a.printf("\n")
	for _, set := range g.Records {
		for _, r := range set.Records() {
			a.recordLine(" ", g.Domain, r)
		}
	}
	if more := g.Count - len(g.Records); more > 0 {
		a.printf("  and %s more\n", wording.Counted(more, "record set"))
	}
	a.printf("%s found, %d left out, since they belong to the provider.\n", wording.Counted(g.Count, "record set"), len(g.LeftOut))
	open := a.showDoubts(g)
	switch {
	case open != "":
		a.printf("Decide, then accept: beacon zone gather %s --accept --keep '%s'\n", zone, open)
	default:
		a.printf("Accept as desired records: beacon zone gather %s --accept\n", zone)
	}
	if g.Claim != gather.Complete {
		a.printf("%s Names that you know can be named: --name cam,printer.office\n", a.paint(amber, "Perhaps incomplete."))
	}
}

// showDoubts shows what a user decides about, and returns the first set that has to be decided.
func (a *app) showDoubts(g wire.Gathering) (open string) {
	for _, d := range g.Doubts {
		mark := "note:"
		if d.Open {
			mark = a.paint(amber, "decide:")
		}
		about := d.Name.Relative(g.Domain) + " " + d.Type.String()
		if d.Open && open == "" {
			open = about
		}
		var data []string
		for _, one := range d.Data {
			data = append(data, string(one))
		}
		a.printf("\n%s %s  %s\n", mark, a.paint(bold, about), strings.Join(data, ", "))
		for _, line := range wrap(d.Text, width-2) {
			a.printf("  %s\n", line)
		}
	}
	if len(g.Doubts) > 0 {
		a.printf("\n")
	}
	return open
}

// kindOfSource names a way of looking.
func kindOfSource(k gather.Kind) string {
	return map[gather.Kind]string{gather.FromAccount: "account", gather.FromTransfer: "transfer", gather.FromWalk: "NSEC chain", gather.FromFile: "zone file", gather.FromAsking: "asking"}[k]
}

// acceptGathered shows what would change, asks, and saves it.
func (a *app) acceptGathered(name dnsname.Name, g gathering) error {
	var last wire.Gathering
	if err := ask(a, wire.ShowGathering, wire.None{}, &last, name); err != nil {
		return err
	}
	in := wire.GatheringAcceptance{ID: last.ID, Reason: g.reason, DryRun: true, Afterwards: g.afterwards, Decisions: []wire.GatheringDecision{}}
	for choice, list := range map[gather.Choice][]string{gather.Keep: g.keep, gather.Leave: g.leave, gather.Alias: g.aliases} {
		for _, text := range list {
			d, err := readDecision(name, choice, text)
			if err != nil {
				return err
			}
			in.Decisions = append(in.Decisions, d)
		}
	}
	var got wire.Imported
	if err := ask(a, wire.AcceptGathering, in, &got, name); err != nil {
		return err
	}
	if a.output == "table" {
		a.showImport(got)
	}
	if !g.dryRun {
		if err := a.agreed(g.yes, "Accept these as the desired records of "+plain(name)+"?"); err != nil {
			return err
		}
		in.DryRun = false
		if err := ask(a, wire.AcceptGathering, in, &got, name); err != nil {
			return err
		}
	}
	return a.show(got, func() {
		if got.Revision == nil {
			a.printf("Dry run: nothing was changed.\n")
			return
		}
		a.printf("Saved as revision %d of %s. Nothing is written to a provider yet.\n", got.Revision.Number, plain(name))
		a.printf("Move the domain: beacon handover begin %s --to ACCOUNT\n", plain(name))
	})
}

// readDecision reads "NAME TYPE", for an alias with "=TARGET" behind it.
func readDecision(zone dnsname.Name, choice gather.Choice, text string) (d wire.GatheringDecision, err error) {
	d.Choice = choice
	about, target, hasTarget := strings.Cut(text, "=")
	fields := strings.Fields(about)
	if len(fields) != 2 || hasTarget != (choice == gather.Alias) {
		form := "'NAME TYPE'"
		if choice == gather.Alias {
			form = "'NAME TYPE=TARGET'"
		}
		return d, misuse("--%s is written %s, not %q", choice, form, text)
	}
	if d.Name, err = dnsname.ParseRelative(fields[0], zone); err != nil {
		return d, misuse("--%s: %s", choice, err)
	}
	if d.Type, err = record.ParseType(fields[1]); err != nil {
		return d, misuse("--%s: %s", choice, err)
	}
	d.Target = strings.TrimSpace(target)
	return d, nil
}

func (a *app) registrarFindCommand() *cobra.Command {
	return &cobra.Command{Use: "find DOMAIN", Short: "Show who holds a domain, and where its nameservers are changed", Args: cobra.ExactArgs(1),
		Long: "Asks the connected accounts, and the registry over RDAP where the settings name it (rdap_bootstrap). Nothing is changed.",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var h wire.Holder
			if err := ask(a, wire.ShowHolder, wire.None{}, &h, name); err != nil {
				return err
			}
			return a.show(h, func() { a.showHolder(h) })
		}}
}

func (a *app) showHolder(h wire.Holder) {
	a.printf("%s\n", a.paint(bold, plain(h.Domain)))
	line := func(label, text string) {
		if text != "" {
			a.printf("  %-14s%s\n", label, strings.Join(wrap(text, width-16), "\n"+strings.Repeat(" ", 16)))
		}
	}
	line("account", h.Account)
	line("registrar", h.Registrar)
	if h.Expires != nil {
		line("expires", h.Expires.Format("2006-01-02"))
	}
	line("status", strings.Join(h.Status, ", "))
	if len(h.Nameservers) > 0 {
		line("nameservers", names(h.Nameservers))
	}
	if h.Signed {
		line("DNSSEC", "the parent has a DS")
	}
	line("RDAP", h.Problem)
	a.printf("%s\n", h.Advice)
}
