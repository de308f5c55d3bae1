package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq"
	"beacon/provider"
	"beacon/wire"
)

// checkedProfile is what a check of a profile found.
type checkedProfile struct {
	File        string          `json:"file"`
	Profile     string          `json:"profile"` // its name; empty where it has faults
	Description string          `json:"description"`
	Can         []string        `json:"can"` // what the provider can do
	Faults      []profile.Fault `json:"faults"`
	Questions   []profile.Fault `json:"questions"` // what the profile should say; it is of use all the same
}

func (a *app) profileCommand() *cobra.Command {
	c := &cobra.Command{Use: "profile", Short: "Check and try profiles of provider interfaces"}
	check := &cobra.Command{Use: "check FILE...", Short: "Find every fault in a profile, with line and column", Args: cobra.MinimumNArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		bad, list := 0, []checkedProfile{}
		for _, file := range args {
			p, faults, err := readProfile(file)
			if err != nil {
				return err
			}
			checked := checkedProfile{File: file, Questions: []profile.Fault{}, Faults: append([]profile.Fault{}, faults...)}
			if len(faults) > 0 {
				bad++
			} else {
				checked.Profile, checked.Description, checked.Can, checked.Questions = p.Name, p.About, capsWords(p.Caps), append(checked.Questions, p.Questions...)
				if p.OfRegistrar() {
					c := p.RegistrarCaps()
					checked.Can = registrarWords(wire.RegistrarCaps{Activation: c.Activation, Delayed: c.Delayed, Least: c.Least, Most: c.Most, FinalDot: c.FinalDot, Again: c.Again, Hosts: c.Hosts, DS: string(c.DS), Locks: c.Locks})
				}
			}
			list = append(list, checked)
		}
		err := a.show(list, func() {
			for _, c := range list {
				if len(c.Faults) > 0 {
					a.printf("%s\n", profile.FaultText(c.Faults))
					continue
				}
				a.printf("%s: profile %s has no faults. %s\n", c.File, c.Profile, c.Description)
				for _, text := range c.Can {
					a.printf("  %s\n", text)
				}
				for _, q := range c.Questions {
					a.printf("%s %s\n", a.paint(amber, "question"), q.Error())
				}
			}
		})
		if err == nil && bad > 0 {
			err = exit{ExitFailed, ""}
		}
		return err
	}}
	c.AddCommand(check)
	return c
}

func readProfile(file string) (*profile.Profile, []profile.Fault, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, misuse("%s", err)
	}
	p, faults := profile.Load(file, text)
	return p, faults, nil
}

func (a *app) tryCommand() *cobra.Command {
	var base, zone, domain string
	var credential credentialFlags
	var hosts []string
	c := &cobra.Command{Use: "try PROFILE", Short: "Read through a profile, and show each request and answer; nothing is written", Args: cobra.ExactArgs(1),
		Example: "  beacon provider try heron.profile.yaml --url https://api.heron.example --secret-file key --zone saltmarsh-ferries.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, faults, err := readProfile(args[0])
			if err != nil {
				return err
			}
			if len(faults) > 0 {
				return exit{ExitFailed, profile.FaultText(faults)}
			}
			var parts []wire.CredentialPart
			for _, p := range p.Parts() {
				parts = append(parts, wire.CredentialPart{Name: p.Name, About: p.About})
			}
			secret, named, err := credential.read(a, parts, "Credential")
			if err != nil {
				return err
			}
			if named != nil {
				text, err := json.Marshal(named)
				if err != nil {
					return err
				}
				secret = string(text)
			}
			var name dnsname.Name
			if zone != "" {
				if name, err = dnsname.Parse(zone); err != nil {
					return misuse("--zone: %s", err)
				}
			}
			further, err := hostsOf(hosts)
			if err != nil {
				return err
			}
			pool := jq.NewPool(a.evaluator, 5*time.Second)
			defer pool.Close()
			client := outcall.Client{HTTP: door.HTTPClient(30 * time.Second), Base: strings.TrimSuffix(base, "/"), Hosts: further, Account: "try", Secret: secret, Trace: a.showExchange}
			runtime := profile.NewRuntime(pool)
			defer runtime.Close()
			if p.OfRegistrar() {
				return a.tryRegistrar(cmd.Context(), profile.NewRegistrar(p, runtime, client), domain)
			}
			return a.tryProfile(cmd.Context(), profile.New(p, runtime, client), name)
		}}
	c.Flags().StringVar(&base, "url", "", "base address of the interface")
	credential.add(c)
	c.Flags().StringArrayVar(&hosts, "host", nil, "NAME=URL, a further address that the profile asks for")
	c.Flags().StringVar(&zone, "zone", "", "also read this zone")
	c.Flags().StringVar(&domain, "domain", "", "also look at this domain, through a registrar's profile")
	_ = c.MarkFlagRequired("url")
	return c
}

// tryProfile reads what there is to be read.
func (a *app) tryProfile(ctx context.Context, d *profile.Driver, zone dnsname.Name) error {
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	a.printf("%s\n", a.paint(bold, "What may the credential do?"))
	rights, err := d.Rights(ctx)
	if err != nil {
		return err
	}
	words := make([]string, len(rights))
	for i, r := range rights {
		words[i] = string(r)
	}
	a.printf("  => %s\n%s\n", rightsWords(words), a.paint(bold, "Which zones are there?"))
	page, err := d.Zones(ctx, "")
	if err != nil {
		return err
	}
	for _, z := range page.Zones[:min(len(page.Zones), 5)] {
		a.printf("  => %s, called %s there, at %s\n", plain(z.Ref.Name), z.Ref.ID, names(z.Nameservers))
	}
	a.printf("  => %s on the first page; the list goes on: %t\n", count(len(page.Zones), "zone"), page.Next != "")
	if zone.IsZero() {
		return nil
	}
	a.printf("%s\n", a.paint(bold, "What is in "+plain(zone)+"?"))
	found, there, err := provider.FindZone(ctx, d, zone)
	if err != nil {
		return err
	}
	if !there {
		return exit{ExitFailed, "the account has no zone " + plain(zone)}
	}
	state, err := provider.ReadAll(ctx, d, found.Ref, provider.State{})
	if err != nil {
		return err
	}
	for _, r := range state.Contents.Records()[:min(state.Contents.Len(), 8)] {
		a.printf("  => %s\n", r)
	}
	a.printf("  => %s in all; change mark %q\n", count(state.Contents.Len(), "record"), state.Mark)
	for _, text := range d.Doubts() {
		a.printf("%s %s: the name in the data has no final dot. It was read as complete; say how it is meant: can: {targets: …}\n", a.paint(amber, "warning"), text)
	}
	return nil
}

// tryRegistrar lists domains, and looks at one.
func (a *app) tryRegistrar(ctx context.Context, d *profile.Registrar, domain string) error {
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	a.printf("%s\n", a.paint(bold, "Which domains are there?"))
	page, err := d.Domains(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range page.Registrations[:min(len(page.Registrations), 5)] {
		a.printf("  => %s, active %s\n", plain(r.Name), names(r.Active))
	}
	a.printf("  => %s on the first page; the list goes on: %t\n", count(len(page.Registrations), "domain"), page.Next != "")
	if domain == "" {
		return nil
	}
	name, err := dnsname.Parse(domain)
	if err != nil {
		return misuse("--domain: %s", err)
	}
	a.printf("%s\n", a.paint(bold, "What is known of "+plain(name)+"?"))
	r, err := d.Look(ctx, name)
	if err != nil {
		return err
	}
	a.printf("  => active %s; saved %s\n", names(r.Active), names(r.Saved))
	if !r.Expires.IsZero() {
		a.printf("  => expires %s\n", r.Expires.Format(time.DateOnly))
	}
	for _, s := range r.Status {
		a.printf("  => status %s\n", strings.TrimSpace(s+": "+r.Reasons[s]))
	}
	for _, h := range r.Hosts {
		a.printf("  => host %s %v\n", plain(h.Name), h.Addresses)
	}
	for _, ds := range r.DS {
		a.printf("  => DS %s\n", ds)
	}
	for _, p := range r.Pending {
		a.printf("  => pending: %s %s\n", p.ID, p.What)
	}
	return nil
}

// mostShown bounds what is shown of a body, in octets.
const mostShown = 600

// showExchange prints one request and its answer. It gets both without secrets.
func (a *app) showExchange(e outcall.Exchange) {
	a.printf("  %s %s\n", e.Method, e.Path)
	headers := func(h map[string]string) {
		for _, name := range slices.Sorted(maps.Keys(h)) {
			a.printf("    %s: %s\n", name, h[name])
		}
	}
	headers(e.Sent)
	a.body(e.Body)
	if e.Problem != "" {
		a.printf("  no answer: %s\n", e.Problem)
		return
	}
	a.printf("  %d in %d ms\n", e.Status, e.Took.Milliseconds())
	headers(e.Got)
	a.body(e.Answer)
}

func (a *app) body(text string) {
	if text == "" {
		return
	}
	var value any
	if json.Unmarshal([]byte(text), &value) == nil {
		if indented, err := json.MarshalIndent(value, "", " "); err == nil {
			text = string(indented)
		}
	}
	if len(text) > mostShown {
		text = strings.ToValidUTF8(text[:mostShown], "") + fmt.Sprintf("\n... %d octets more", len(text)-mostShown)
	}
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		a.printf("    | %s\n", line)
	}
}
