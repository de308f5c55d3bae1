package cli

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"beacon/cli/meter"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/wire"
)

// domainsToCheck gathers the names that a check is about. What cannot be read of a file is shown, and passed over.
func (a *app) domainsToCheck(args []string, from string, every bool) (names []dnsname.Name, bad int, err error) {
	for _, text := range args {
		name, err := dnsname.Parse(text)
		if err != nil {
			return nil, 0, misuse("%s", err)
		}
		if name.IsRoot() {
			return nil, 0, misuse("the root cannot be checked: it has no parent")
		}
		names = append(names, name)
	}
	if from != "" {
		in := a.in
		if from != "-" {
			f, err := os.Open(from)
			if err != nil {
				return nil, 0, misuse("--from: %s", err)
			}
			defer f.Close()
			in = f
		}
		more, lines, err := readNames(in)
		if err != nil {
			return nil, 0, misuse("--from: %s", err)
		}
		for _, line := range lines {
			fmt.Fprintf(a.err, "beacon: --from: %s; passed over\n", line)
		}
		names, bad = append(names, more...), len(lines)
	}
	if every {
		list, err := all(a, wire.ListDomains)
		if err != nil {
			return nil, 0, err
		}
		for _, d := range list {
			names = append(names, d.Name)
		}
	}
	if len(names) == 0 {
		return nil, bad, misuse("name a domain, or give --from or --all")
	}
	return names, bad, nil
}

// passedOver returns how a check ends of which lines could not be read.
func passedOver(err error, bad int) error {
	var e exit
	if bad == 0 || err != nil && (!errors.As(err, &e) || e.code == ExitMisuse) {
		return err
	}
	return exit{graver(e.code, ExitUnknown), e.message}
}

// Beyond so many domains, a line each is shown.
const mostWhole = 3

// checkFromHere checks domains without a service.
func (a *app) checkFromHere(c *cobra.Command, d direct, names []dnsname.Name) error {
	var reports []delegation.Report
	now := wire.ClockNow{World: time.Now(), Rate: 1}
	worst := 0
	far := meter.New(a.err, "checks")
	err := a.checkDirect(c.Context(), d, names, func(r delegation.Report, heard []evidence.Heard) error {
		worst = graver(worst, exitCode(r.Verdict))
		if a.output != "table" {
			reports = append(reports, r)
			far.At(int64(len(reports)), int64(len(names)), "")
			return nil
		}
		if len(names) > mostWhole {
			a.line(r)
			return nil
		}
		now.World = time.Now()
		a.showReport(r, now)
		if d.answers {
			a.showAnswers(heard)
		}
		if len(names) > 1 {
			a.printf("\n")
		}
		return nil
	})
	far.Clear()
	if err != nil {
		return err
	}
	return a.showReports(reports, worst)
}

// line shows a domain in a line: the verdict, and the gravest finding.
func (a *app) line(r delegation.Report) {
	what := ""
	if len(r.Findings) > 0 && r.Findings[0].Severity >= finding.Warning {
		what = r.Findings[0].Code + ": " + r.Findings[0].Subject
		if more := len(r.Findings) - 1; more > 0 {
			what += fmt.Sprintf(" and %d more", more)
		}
	}
	a.printf("%-12s %-40s %s\n", r.Verdict, plain(r.Domain), what)
}

// atService is how many domains the service is asked to check at a time.
const atService = 8

// checkAtService has the service check domains, some at a time, and shows them in their order.
func (a *app) checkAtService(names []dnsname.Name) error {
	type outcome struct {
		r   delegation.Report
		now wire.ClockNow
		err error
	}
	results := make([]chan outcome, len(names))
	places := make(chan struct{}, atService)
	for i := range names {
		results[i] = make(chan outcome, 1)
	}
	go func() {
		for i, name := range names {
			places <- struct{}{}
			go func() {
				defer func() { <-places }()
				r, now, err := a.check(name.String())
				results[i] <- outcome{r, now, err}
			}()
		}
	}()
	var reports []delegation.Report
	far := meter.New(a.err, "checks")
	defer far.Clear()
	worst := 0
	for i := range names {
		got := <-results[i]
		var known *problem
		if errors.As(got.err, &known) && len(names) > 1 { // the others go on
			fmt.Fprintf(a.err, "beacon: %s: %s\n", plain(names[i]), known.Detail)
			worst = graver(worst, ExitUnknown)
			continue
		}
		if got.err != nil {
			return got.err
		}
		worst = graver(worst, exitCode(got.r.Verdict))
		switch {
		case a.output != "table":
			reports = append(reports, got.r)
			far.At(int64(len(reports)), int64(len(names)), "")
		case len(names) > mostWhole:
			a.line(got.r)
		default:
			if i > 0 {
				a.printf("\n")
			}
			a.showReport(got.r, got.now)
		}
	}
	far.Clear()
	return a.showReports(reports, worst)
}

// showReports prints reports to scripts: one by itself, several as a list.
func (a *app) showReports(reports []delegation.Report, worst int) error {
	if a.output != "table" {
		var out any = reports
		if len(reports) == 1 {
			out = reports[0]
		}
		if err := a.show(out, nil); err != nil {
			return err
		}
	}
	return codeOnly(worst)
}
