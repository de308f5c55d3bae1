package cli

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"beacon/core/dynaddr"
	"beacon/core/zonefile"
)

// policyFlags are what may be said of a policy.
type policyFlags struct {
	networks                                              []string
	minInterval, holdDown, maxHoldDown, failover, silence string
	secondSource, onSilence, fallbackV4, fallbackV6       string
	inherit                                               []string
}

// allPublic stands for every public address.
const allPublic = "public"

func (f *policyFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.networks, "allowed-network", nil, "accept addresses of this network only, private ones too; public for every public address")
	c.Flags().StringVar(&f.minInterval, "min-interval", "0s", "least time between two changes of the name")
	c.Flags().StringVar(&f.holdDown, "hold-down", "30s", "how long the third of several quick changes waits, each further one twice as long; 0s for not at all")
	c.Flags().StringVar(&f.maxHoldDown, "max-hold-down", "15m", "how long a change waits at most")
	c.Flags().StringVar(&f.secondSource, "second-source", "none", "what must confirm an address: none, peer (the address that the report comes from) or token (a report with another token)")
	c.Flags().StringVar(&f.failover, "failover", "10m", "time without a report after which the next uplink is followed")
	c.Flags().StringVar(&f.silence, "silence", "0s", "time without any report after which the host is silent, such as 2h or 1d; 0s for never")
	c.Flags().StringVar(&f.onSilence, "on-silence", "keep", "what becomes of the address records then: keep, remove or fallback")
	c.Flags().StringVar(&f.fallbackV4, "fallback-v4", "", "IPv4 address of a silent host, with --on-silence fallback")
	c.Flags().StringVar(&f.fallbackV6, "fallback-v6", "", "IPv6 address of a silent host, with --on-silence fallback")
}

// addInherit adds the option that unsets what a policy says.
func (f *policyFlags) addInherit(c *cobra.Command) {
	c.Flags().StringSliceVar(&f.inherit, "inherit", nil, "no longer set these options here, such as hold-down")
}

// into changes a policy by the options that are given.
func (f *policyFlags) into(c *cobra.Command, p *dynaddr.Policy) error {
	given := func(name string) bool { return c.Flags().Changed(name) }
	for _, name := range f.inherit {
		switch strings.TrimPrefix(name, "--") {
		case "allowed-network":
			p.Networks = nil
		case "min-interval":
			p.MinInterval = nil
		case "hold-down":
			p.HoldDown = nil
		case "max-hold-down":
			p.MaxHoldDown = nil
		case "second-source":
			p.SecondSource = nil
		case "failover":
			p.Failover = nil
		case "silence":
			p.Silence = nil
		case "on-silence":
			p.OnSilence = nil
		case "fallback-v4":
			p.FallbackV4 = nil
		case "fallback-v6":
			p.FallbackV6 = nil
		default:
			return misuse("--inherit: %q is no option of a policy, such as hold-down", name)
		}
	}
	if given("allowed-network") {
		list := []netip.Prefix{}
		for _, text := range f.networks {
			if text == allPublic {
				continue
			}
			n, err := netip.ParsePrefix(text)
			if err != nil {
				return misuse("--allowed-network: %q is no network, such as 192.0.2.0/24", text)
			}
			list = append(list, n.Masked())
		}
		p.Networks = &list
	}
	for name, one := range map[string]struct {
		given string
		into  **uint32
	}{"min-interval": {f.minInterval, &p.MinInterval}, "hold-down": {f.holdDown, &p.HoldDown}, "max-hold-down": {f.maxHoldDown, &p.MaxHoldDown}, "failover": {f.failover, &p.Failover}, "silence": {f.silence, &p.Silence}} {
		if !given(name) {
			continue
		}
		seconds, err := zonefile.ParseTTL(one.given)
		if err != nil {
			return misuse("--%s: %q is no time, such as 30s, 2h or 1d", name, one.given)
		}
		*one.into = &seconds
	}
	if given("second-source") {
		source := dynaddr.Source(f.secondSource)
		p.SecondSource = &source
	}
	if given("on-silence") {
		way := dynaddr.Silent(f.onSilence)
		p.OnSilence = &way
	}
	for name, one := range map[string]struct {
		given string
		into  **netip.Addr
	}{"fallback-v4": {f.fallbackV4, &p.FallbackV4}, "fallback-v6": {f.fallbackV6, &p.FallbackV6}} {
		if !given(name) {
			continue
		}
		a, err := netip.ParseAddr(one.given)
		if err != nil {
			return misuse("--%s: %q is no IP address", name, one.given)
		}
		*one.into = &a
	}
	if err := p.Check(); err != nil {
		return misuse("%s", err)
	}
	return nil
}

// showPolicy says what holds, and marks what is set here.
func (a *app) showPolicy(rules, own dynaddr.Policy) {
	rules = rules.Over(dynaddr.Default())
	mark := func(set bool) string {
		if set {
			return ""
		}
		return a.paint(dim, " (inherited)")
	}
	line := func(label, text string, set bool) { a.printf("  %-16s%s%s\n", label, text, mark(set)) }
	networks := "all public addresses"
	if len(*rules.Networks) > 0 {
		var texts []string
		for _, n := range *rules.Networks {
			texts = append(texts, n.String())
		}
		networks = "addresses of " + strings.Join(texts, ", ")
	}
	line("accepts", networks, own.Networks != nil)
	if *rules.MinInterval > 0 {
		line("least interval", seconds(*rules.MinInterval), own.MinInterval != nil)
	}
	hold := "none"
	if *rules.HoldDown > 0 {
		hold = fmt.Sprintf("%s for the third quick change, up to %s", seconds(*rules.HoldDown), seconds(*rules.MaxHoldDown))
	}
	line("hold-down", hold, own.HoldDown != nil || own.MaxHoldDown != nil)
	switch *rules.SecondSource {
	case dynaddr.PeerSource:
		line("confirmed by", "the address that the report comes from", own.SecondSource != nil)
	case dynaddr.TokenSource:
		line("confirmed by", "a report with another token", own.SecondSource != nil)
	}
	line("failover", "after "+seconds(*rules.Failover)+" without a report", own.Failover != nil)
	silence := "never silent"
	if *rules.Silence > 0 {
		silence = "silent after " + seconds(*rules.Silence) + " without a report; then " + map[dynaddr.Silent]string{dynaddr.KeepSilent: "the last address stays", dynaddr.RemoveSilent: "its address records are removed",
			dynaddr.FallbackSilent: strings.Join(slices.DeleteFunc([]string{fallback(rules.FallbackV4), fallback(rules.FallbackV6)}, func(s string) bool { return s == "" }), " and ") + " instead"}[*rules.OnSilence]
	}
	line("silence", silence, own.Silence != nil || own.OnSilence != nil)
}

func fallback(a *netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func seconds(n uint32) string { return span(time.Duration(n) * time.Second) }

// parameterFlags are what may be said of the parameters of a client.
type parameterFlags struct {
	names  []string
	ignore []string
	usual  bool
}

func (f *parameterFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.names, "parameter", nil, "OURS=THEIRS: the client calls v4, v6 or prefix otherwise, such as v4=ipaddr; address=THEIRS for either family")
	c.Flags().StringArrayVar(&f.ignore, "ignore", nil, "a parameter that the client sends and that is not read")
	c.Flags().BoolVar(&f.usual, "usual-parameters", false, "forget the parameters that were given before")
}

// into changes parameters by the options that are given.
func (f *parameterFlags) into(p *dynaddr.Parameters) error {
	if f.usual {
		*p = dynaddr.Parameters{}
	}
	for _, text := range f.names {
		ours, theirs, ok := strings.Cut(text, "=")
		switch {
		case !ok:
			return misuse("--parameter is OURS=THEIRS, such as v4=ipaddr")
		case ours == "v4":
			p.V4 = theirs
		case ours == "v6":
			p.V6 = theirs
		case ours == "prefix":
			p.Prefix = theirs
		case ours == "address":
			p.V4, p.V6 = theirs, theirs
		default:
			return misuse("--parameter: %q is none of v4, v6, prefix and address", ours)
		}
	}
	for _, name := range f.ignore {
		if !slices.Contains(p.Ignore, name) {
			p.Ignore = append(p.Ignore, name)
		}
	}
	if err := p.Check(); err != nil {
		return misuse("%s", err)
	}
	return nil
}

// showParameters says what a client calls what it reports.
func parametersText(p dynaddr.Parameters) string {
	var parts []string
	for _, one := range [][2]string{{"v4", p.V4}, {"v6", p.V6}, {"prefix", p.Prefix}} {
		if one[1] != "" {
			parts = append(parts, one[0]+" is called "+one[1])
		}
	}
	if len(p.Ignore) > 0 {
		parts = append(parts, "ignored: "+strings.Join(p.Ignore, ", "))
	}
	return strings.Join(parts, "; ")
}
