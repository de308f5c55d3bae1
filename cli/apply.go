package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/core/definition"
	"beacon/core/finding"
	"beacon/core/rules"
	"beacon/core/zonefile"
	"beacon/folder"
	"beacon/wire"
)

// applyOptions say how definition files are applied.
type applyOptions struct {
	yes, dryRun, once bool
	allow             []string
	reason            string
}

func (a *app) applyCommand() *cobra.Command {
	var check, schema bool
	var opt applyOptions
	c := &cobra.Command{
		Use: "apply FILE|FOLDER…", Short: "Accept definition files as desired records, and sync their zones",
		Long: "Accept definition files, or all *.beacon.yaml below folders, as desired records, and sync their zones. From then on\n" +
			"the files manage these zones: edits elsewhere are refused until a user detaches a zone\n" +
			"(beacon zone detach). With --once the zones stay editable here.\n\n" +
			"All zones are accepted in one transaction with their syncs; a sync that is blocked or fails does not stop the others.\n" +
			"Exit codes: 0 all zones in sync, 1 a sync failed or is blocked, or nothing was accepted, 64 misuse.",
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
				return a.checkDefinitions(files)
			}
			return a.apply(files, opt)
		},
	}
	c.Flags().BoolVar(&check, "check", false, "find faults only; needs no service")
	c.Flags().BoolVar(&opt.once, "once", false, "apply the files once; the zones stay editable here")
	c.Flags().BoolVar(&schema, "schema", false, "print the JSON Schema of definition files, for editors")
	c.Flags().StringVar(&opt.reason, "reason", "", "reason, kept with the revision")
	c.Flags().BoolVar(&opt.dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&opt.yes, "yes", false, "do not ask")
	c.Flags().StringSliceVar(&opt.allow, "allow", nil, "allow this guard, by its code; may be repeated")
	return c
}

// apply shows what files would change, asks, has them accepted, and follows the syncs of all zones together.
func (a *app) apply(files []definition.File, opt applyOptions) error {
	request := wire.ApplyRequest{Files: files, DryRun: true, Manage: !opt.once, Allow: []string{}}
	var planned wire.Page[wire.Applied]
	if err := ask(a, wire.ApplyDefinitions, request, &planned); err != nil {
		return err
	}
	changes, unsynced := 0, 0
	var guards []finding.Finding
	for _, d := range planned.Items {
		if d.Changed {
			changes++
			if a.output == "table" {
				a.showApplied(d, true)
			}
		}
		unsynced += len(d.Unsynced)
		for _, g := range d.Guards {
			if !slices.Contains(opt.allow, g.Code) {
				guards = append(guards, g)
			}
		}
	}
	if opt.dryRun {
		return a.show(planned.Items, func() { a.printf("Dry run: nothing changed.\n") })
	}
	if changes+unsynced > 0 && !opt.yes {
		a.findings(guards)
		question := fmt.Sprintf("Accept %s, and sync?", count(len(planned.Items), "zone"))
		if len(guards) > 0 {
			question = fmt.Sprintf("Accept %s, allow the guards above, and sync?", count(len(planned.Items), "zone"))
		}
		if err := a.agreed(false, question); err != nil {
			return err
		}
		for _, g := range guards {
			opt.allow = append(opt.allow, g.Code)
		}
		guards = nil
	}
	if len(guards) > 0 {
		a.findings(guards)
		return exit{ExitFailed, "a guard blocks these changes; nothing changed. Repeat with " + allowing(guards)}
	}
	request.DryRun, request.Sync, request.Allow, request.Reason = false, true, append([]string{}, opt.allow...), opt.reason
	var done wire.Page[wire.Applied]
	if err := ask(a, wire.ApplyDefinitions, request, &done); err != nil {
		return err
	}
	return a.followApplied(done.Items, opt)
}

// allowing returns the options that allow guards, each once.
func allowing(guards []finding.Finding) string {
	var options []string
	for _, g := range guards {
		if option := "--allow " + g.Code; !slices.Contains(options, option) {
			options = append(options, option)
		}
	}
	return strings.Join(options, " ")
}

// applyResult is what a run of apply came to.
type applyResult struct {
	Zones []wire.Applied  `json:"zones"`
	Syncs []wire.SyncView `json:"syncs"`
}

// followApplied follows the syncs of zones that were applied until all of them have ended.
func (a *app) followApplied(list []wire.Applied, opt applyOptions) error {
	changed, records := 0, 0
	var follow []*pending
	for _, d := range list {
		records += d.Same + len(d.Added)
		if d.Changed {
			changed++
			if a.output == "table" {
				a.printf("%s: saved as revision %d.\n", plain(d.Zone), d.Revision.Number)
			}
		}
		for _, s := range d.Syncs {
			follow = append(follow, &pending{zone: d.Zone, account: s.Account, id: s.ID})
		}
		for _, w := range d.Waiting {
			follow = append(follow, &pending{zone: d.Zone, account: w.Account})
		}
	}
	views, err := a.endings(follow, syncOptions{allow: opt.allow})
	if err != nil {
		return err
	}
	counts := map[wire.SyncState]int{}
	err = a.show(applyResult{list, views}, func() {
		for _, v := range views {
			if v.State == wire.SyncDone && len(views) > 3 {
				continue
			}
			a.showEnding(v)
		}
		if changed == 0 && len(views) == 0 {
			a.printf("No changes: %s, %s.\n", count(len(list), "zone"), count(records, "record"))
		}
	})
	for _, v := range views {
		counts[v.State]++
	}
	if err == nil && len(views) > 0 && a.output == "table" {
		a.printf("%s\n", a.ending(counts))
	}
	if err == nil && counts[wire.SyncDone] < len(views) {
		err = exit{ExitFailed, ""}
	}
	return err
}

// ending returns how many syncs ended how.
func (a *app) ending(counts map[wire.SyncState]int) string {
	text := fmt.Sprintf("%d in sync", counts[wire.SyncDone])
	for _, state := range []wire.SyncState{wire.SyncBlocked, wire.SyncFailed, wire.SyncCancelled} {
		if counts[state] > 0 {
			text += fmt.Sprintf(", %d %s", counts[state], state)
		}
	}
	return text + "."
}

// showEnding shows how a sync ended.
func (a *app) showEnding(s wire.SyncView) {
	number := ""
	if s.ID != 0 {
		number = fmt.Sprintf("Sync %d of ", s.ID)
	}
	a.printf("%s%s at %s: %s.\n  %d added, %d changed, %d removed, in %s.\n", number, plain(s.Zone), s.Account, s.State, s.Added, s.Changed, s.Removed, count(s.Requests, "request"))
	for _, line := range wrap(s.Message, width-2) {
		a.printf("  %s\n", line)
	}
	var fresh []finding.Finding
	var codes []string
	for _, f := range s.Findings {
		if !a.shown[f.Code+f.Subject] {
			fresh = append(fresh, f)
		}
		if len(rules.Explain(f.Code)) > 0 && rules.Explain(f.Code)[0].Guard != "" && !slices.Contains(codes, f.Code) {
			codes = append(codes, f.Code)
		}
	}
	a.findings(fresh)
	if s.State == wire.SyncBlocked && len(codes) > 0 {
		a.printf("  If this is intended: beacon sync %s --allow %s\n", plain(s.Zone), strings.Join(codes, ","))
	}
}

// mostWaiting is for how long a sync waits for what is in its way, such as an earlier sync of the same placement.
const mostWaiting = 10 * time.Minute

// endings follows syncs until all have ended. One without a number is started as soon as nothing is in its way.
func (a *app) endings(list []*pending, opt syncOptions) (views []wire.SyncView, err error) {
	far := meter.New(a.err, "syncs")
	views = []wire.SyncView{}
	for open := list; len(open) > 0; {
		still := open[:0:0]
		for _, p := range open {
			if p.id == 0 {
				err := a.startOne(p, opt)
				var known *problem
				switch {
				case errors.As(err, &known) && known.Status == 409 && (p.since.IsZero() || time.Since(p.since) < mostWaiting):
					if p.since.IsZero() {
						p.since = time.Now()
					}
				case errors.As(err, &known):
					views = append(views, wire.SyncView{Zone: p.zone, Account: p.account, State: wire.SyncFailed, Message: known.Detail})
					continue
				case err != nil:
					return views, err
				}
				still = append(still, p)
				continue
			}
			if err := ask(a, wire.ShowSync, wire.None{}, &p.done, p.id); err != nil {
				return views, err
			}
			if p.done.State.Ended() {
				views = append(views, p.done)
			} else {
				still = append(still, p)
			}
		}
		open = still
		far.At(int64(len(views)), int64(len(list)), "")
		if len(open) > 0 {
			time.Sleep(max(60*time.Millisecond, time.Duration(len(open))*time.Millisecond))
		}
	}
	far.Clear()
	return views, nil
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

func (a *app) checkDefinitions(files []definition.File) error {
	read, faults := definition.Read(files)
	zones := read.Zones
	if len(faults) > 0 {
		if a.output != "table" {
			if err := a.show(map[string]any{"zones": len(zones), "faults": faults}, nil); err != nil {
				return err
			}
			return exit{ExitFailed, ""}
		}
		for _, f := range faults {
			a.printf("%s\n", f.Error())
		}
		return exit{ExitFailed, count(len(faults), "fault")}
	}
	records, findings := 0, []rules.Found{}
	for _, z := range zones {
		records += z.Contents.Len()
		findings = append(findings, rules.Check(rules.Zone{Name: z.Name, Contents: z.Contents, Written: z.Written})...)
	}
	result := map[string]any{"zones": len(zones), "records": records, "kits": len(read.Kits), "findings": findings, "faults": []zonefile.Fault{}}
	return a.show(result, func() {
		a.found(findings)
		a.printf("No faults: %s, %s, %s.\n", count(len(zones), "zone"), count(records, "record"), count(len(read.Kits), "kit"))
	})
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
