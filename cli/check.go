package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"beacon/cli/screen"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/finding"
	"beacon/wire"
)

func (a *app) domainsCommand() *cobra.Command {
	var state, sort, name string
	c := &cobra.Command{Use: "domains", Short: "List domains with their state", Args: cobra.NoArgs,
		Example: "  beacon domains --state needs-action\n  beacon domains --sort settles_by",
	}
	c.Flags().StringVar(&state, "state", "", "only domains in this state: needs-action, ready-to-move, settling, settled, undelegated, unknown or unchecked")
	c.Flags().StringVar(&sort, "sort", "name", "name, settles_by or checked_at")
	c.Flags().StringVar(&name, "name", "", "only domains with this in their names")
	c.RunE = func(*cobra.Command, []string) error {
		call := wire.ListDomains.With("sort", sort)
		if state != "" {
			call = call.With("verdict", state)
		}
		if name != "" {
			call = call.With("name", name)
		}
		list, err := all(a, call)
		if err != nil {
			return err
		}
		var now wire.ClockNow
		if err := ask(a, wire.ShowClock, wire.None{}, &now); err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list) == 0 {
				a.printf("No domains match; to add one: beacon apply FILE.\n")
				return
			}
			var rows [][]string
			for _, d := range list {
				state := stateWord(d.Verdict)
				if d.Verdict == delegation.Settling && d.SettlesBy != nil {
					state += " until " + moment(*d.SettlesBy, now.World)
				}
				rows = append(rows, []string{plain(d.Name), state, d.Registrar, strings.Join(d.Providers, ", "), d.Description})
			}
			a.table([]string{"DOMAIN", "STATE", "REGISTRAR", "PROVIDER", "DESCRIPTION"}, rows)
		})
	}
	return c
}

// stateWord returns the state of a domain as tables have it.
func stateWord(v delegation.Verdict) string {
	switch v {
	case "":
		return "not checked yet"
	case delegation.Unknown:
		return "check failed"
	case delegation.Undelegated:
		return "not delegated"
	}
	return strings.ReplaceAll(string(v), "-", " ")
}

func (a *app) checkCommand() *cobra.Command {
	var d direct
	var from string
	var every bool
	c := &cobra.Command{
		Use: "check DOMAIN…", Short: "Check a domain's delegation, nameservers, resolvers and websites",
		Long: "Asks every parent server, every nameserver and every resolver, and judges what they answer.\n\n" +
			"With --direct all questions are asked from here, nothing is stored, and no service is needed.\n\n" +
			"Exit codes: 0 settled, 1 needs action, ready to move or not delegated, 2 settling, 3 check failed, 64 misuse; of several domains, the worst.",
		Example: "  beacon check saltmarsh-ferries.example\n  beacon check --direct --expect ns1.heron.test,ns2.heron.test saltmarsh-ferries.example\n  beacon check --direct --brief --from names.txt\n  beacon check --all --brief",
		RunE: func(c *cobra.Command, args []string) error {
			if d.on && every {
				return misuse("--all asks the service for its domains; with --direct name them, or give a file with --from")
			}
			if every && d.brief && from == "" && len(args) == 0 {
				return a.briefCheck(c.Context())
			}
			names, bad, err := a.domainsToCheck(args, from, every)
			if err != nil {
				return err
			}
			if !d.on {
				if c.Flags().Changed("root-hints") || c.Flags().Changed("trust-anchors") || c.Flags().Changed("resolver") || c.Flags().Changed("expect") || c.Flags().Changed("brief") || c.Flags().Changed("answers") {
					return misuse("--root-hints, --trust-anchors, --resolver, --expect, --answers and, but for --all, --brief go with --direct; the service has its own settings")
				}
				return passedOver(a.checkAtService(names), bad)
			}
			return passedOver(a.checkFromHere(c, d, names), bad)
		},
	}
	f := c.Flags()
	f.BoolVar(&d.on, "direct", false, "ask from here, without a service; nothing is stored")
	f.StringVar(&d.roots, "root-hints", "", "file with root hints, a zone file (with --direct)")
	f.StringVar(&d.anchors, "trust-anchors", "", "file with trust anchors, as DS lines (with --direct)")
	f.StringArrayVar(&d.resolvers, "resolver", nil, "a resolver to ask: address, tls://address#name or https://…; may be repeated (with --direct)")
	f.StringSliceVar(&d.expect, "expect", nil, "the desired nameservers, with commas (with --direct)")
	f.StringSliceVar(&d.reach, "reach", []string{"0.0.0.0/0", "::/0"}, "networks that may be asked (with --direct)")
	f.Uint16Var(&d.port, "port", 53, "port that nameservers answer on (with --direct)")
	f.StringVar(&d.authority, "ca-file", "", "file with CA certificates (PEM) to trust besides those of the system (with --direct)")
	f.StringSliceVar(&d.sites, "sites", []string{"@", "www"}, "websites below the domain to visit; empty for none (with --direct)")
	f.BoolVar(&d.brief, "brief", false, "ask for the delegation, SOA and NS only, for thousands of domains (with --direct or --all)")
	f.BoolVar(&d.answers, "answers", false, "show the raw responses too (with --direct)")
	f.StringVar(&from, "from", "", "file with domains, one on a line; - for standard input")
	f.BoolVar(&every, "all", false, "check every managed domain")
	return c
}

// check asks the service for a check. Where the service cannot be reached, the state of the domain is unknown.
func (a *app) check(domain string) (r delegation.Report, now wire.ClockNow, err error) {
	name, err := parseName(domain)
	if err != nil {
		return r, now, err
	}
	if err = ask(a, wire.CheckDomain, wire.None{}, &r, name); err == nil {
		err = ask(a, wire.ShowClock, wire.None{}, &now)
	}
	var misused exit
	if err != nil && !errors.As(err, &misused) {
		err = exit{ExitUnknown, err.Error()}
	}
	return r, now, err
}

// report returns the newest check that the service made by itself, and asks for one where it looks after no such domain.
func (a *app) report(domain dnsname.Name) (r delegation.Report, now wire.ClockNow, stranger bool, err error) {
	var p *problem
	if err = ask(a, wire.ShowReport, wire.None{}, &r, domain); errors.As(err, &p) && p.Status == 404 {
		r, now, err = a.check(plain(domain))
		return r, now, true, err
	}
	if err == nil {
		err = ask(a, wire.ShowClock, wire.None{}, &now)
	}
	if err != nil {
		err = exit{ExitUnknown, err.Error()}
	}
	return r, now, false, err
}

func exitFor(v delegation.Verdict) error { return codeOnly(exitCode(v)) }

func codeOnly(code int) error {
	if code == ExitFine {
		return nil
	}
	return exit{code, ""}
}

func exitCode(v delegation.Verdict) int {
	switch v {
	case delegation.Settled:
		return ExitFine
	case delegation.Settling:
		return ExitSettling
	case delegation.Unknown:
		return ExitUnknown
	}
	return ExitFailed
}

// graver returns the graver of two exit codes: wrong, could not tell, settling, fine.
func graver(a, b int) int {
	order := []int{ExitFine, ExitSettling, ExitUnknown, ExitFailed}
	if slices.Index(order, b) > slices.Index(order, a) {
		return b
	}
	return a
}

// headline says the verdict in a sentence.
func (a *app) headline(r delegation.Report, now wire.ClockNow) string {
	speed := ""
	if now.Rate != 1 {
		speed = fmt.Sprintf(" (simulated time, %g times real time)", now.Rate)
	}
	switch r.Verdict {
	case delegation.Settled:
		if finding.Worst(r.Findings) == finding.Warning {
			return a.paint(green, "SETTLED") + ", no change is under way; something should be looked at all the same."
		}
		if len(r.Moments) == 0 {
			return a.paint(green, "SETTLED") + ": everybody who was asked agrees, and no change is under way."
		}
		return a.paint(green, "SETTLED") + ": the old answers have expired from every cache that keeps to TTLs."
	case delegation.Settling:
		if r.SettlesBy == nil {
			return a.paint(amber, "SETTLING") + ": under way, and no time can be given yet."
		}
		likely := ""
		if r.Likely != nil && r.Likely.Before(*r.SettlesBy) {
			likely = "; most likely by " + moment(*r.Likely, now.World)
		}
		return fmt.Sprintf("%s by %s at the latest, in %s%s%s.", a.paint(amber, "SETTLING"), moment(*r.SettlesBy, now.World), span(r.SettlesBy.Sub(now.World)), speed, likely)
	case delegation.Undelegated:
		return a.paint(red, "NOT DELEGATED") + ": the parent knows no nameservers for it."
	case delegation.ReadyToMove:
		return a.paint(amber, "READY TO MOVE") + ": what it has works; the desired nameservers wait for your first step."
	case delegation.NeedsAction:
		return a.paint(red, "NEEDS ACTION") + ": waiting will not fix this."
	}
	return a.paint(mauve, "CHECK FAILED") + ": the check itself failed."
}

func (a *app) showReport(r delegation.Report, now wire.ClockNow) {
	a.printf("%s\n%s\n\n", a.paint(bold, plain(r.Domain)), strings.Join(wrap(a.headline(r, now), width), "\n"))
	var rows [][]string
	if g := r.Registrar; g != nil {
		if g.From == "RDAP" && len(g.Active) == 0 { // no account here holds the registration
			rows = append(rows, []string{"registry", g.Account, "lists", names(g.Listed)})
		} else {
			rows = append(rows, []string{"registrar", g.Account, "active", names(g.Active)})
		}
		if names(g.Saved) != names(g.Active) && len(g.Saved) > 0 {
			rows = append(rows, []string{"", "", "saved only", names(g.Saved)})
		}
	}
	rows = append(rows, sourceRows("parent serves", r.Parents)...)
	inForce, old, others := sortServers(r)
	rows = append(rows, sourceRows("nameservers answer", inForce)...)
	rows = append(rows, sourceRows("the old ones answer", old)...)
	rows = append(rows, sourceRows("the desired ones", others)...)
	for i, v := range r.Resolvers {
		label := ""
		if i == 0 {
			label = "resolvers see"
		}
		state, detail := v.Sees, "through "+v.Through
		switch {
		case v.Problem != "":
			state, detail = "unknown", v.Problem
		case v.Through == "":
			detail = "check failed"
		case v.Until != nil:
			detail += fmt.Sprintf("; expires by %s, in %s", moment(*v.Until, now.World), span(v.Until.Sub(now.World)))
		}
		rows = append(rows, []string{label, inGroup(v), state, detail})
		rows = append(rows, heldRows(v, now)...)
	}
	rows = append(rows, signatureRow(r)...)
	a.table([]string{"", "WHO", "STATE", "WHAT"}, rows)
	a.showMoments(r.Moments, now)
	shown := slices.DeleteFunc(slices.Clone(r.Findings), func(f finding.Finding) bool { return f.Code == "resolver-still-old" }) // the table says it
	if len(shown) > 0 {
		a.printf("\n")
		a.findings(shown)
	}
	a.showSites(r)
}

// inGroup names a resolver with the group that it was put into.
func inGroup(v delegation.View) string {
	if v.Group == "" {
		return v.Name
	}
	return v.Name + " (" + v.Group + ")"
}

// signatureRow reports whether the domain can be validated, where that was looked at.
func signatureRow(r delegation.Report) [][]string {
	words := map[dnssec.State]string{
		dnssec.Secure:   "signed, with a valid chain from the root",
		dnssec.Insecure: "not signed, and no DS at the parent",
		dnssec.Bogus:    "validating resolvers refuse the domain's answers",
	}
	if words[r.DNSSEC] == "" {
		return nil
	}
	return [][]string{{"signatures (DNSSEC)", "from the root", string(r.DNSSEC), words[r.DNSSEC]}}
}

// sortServers tells the servers that the parents name from those before, and from those that are only wanted yet.
func sortServers(r delegation.Report) (inForce, old, others []delegation.Source) {
	set := r.InForce()
	for _, s := range r.Servers {
		switch {
		case slices.Contains(set, s.Name):
			inForce = append(inForce, s)
		case slices.Contains(r.Old, s.Name), len(r.Wanted) > 0 && !slices.Contains(r.Wanted, s.Name): // left before, and still asked
			old = append(old, s)
		default:
			others = append(others, s)
		}
	}
	return inForce, old, others
}

// sourceRows shows servers, those that give the same set as the one above in short.
func sourceRows(label string, sources []delegation.Source) [][]string {
	var rows [][]string
	before := ""
	for i, s := range sources {
		if i > 0 {
			label = ""
		}
		state, what := fmt.Sprintf("TTL %d", s.TTL), names(s.Nameservers)
		if s.Serial != nil {
			state = fmt.Sprintf("serial %d", *s.Serial)
		}
		if s.Problem != "" {
			state, what = "failed", s.Problem
		} else if what == before {
			what = "the same"
		} else {
			before = what
		}
		rows = append(rows, []string{label, plain(s.Name), state, what})
	}
	return rows
}

func (a *app) clearLine() {
	if isTerminal(a.err) {
		fmt.Fprint(a.err, screen.Rewrite)
	}
}
