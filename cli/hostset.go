package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"beacon/core/dynaddr"
	"beacon/core/zonefile"
	"beacon/wire"
)

// followFlags say what of its uplink a host follows.
type followFlags struct {
	v4only, v6only, both, own bool
	ttl, iface                string
	subnet                    string
}

func (f *followFlags) add(c *cobra.Command, ttl string) {
	c.Flags().BoolVar(&f.v4only, "v4-only", false, "follow an IPv4 address only")
	c.Flags().BoolVar(&f.v6only, "v6-only", false, "follow an IPv6 address only")
	c.Flags().StringVar(&f.ttl, "ttl", ttl, "TTL of its records: seconds, or 5m, 1h")
	c.Flags().StringVar(&f.iface, "interface", "", "interface part of its IPv6 address below the prefix of the uplink, such as ::1:2:3:4")
	c.Flags().StringVar(&f.subnet, "subnet", "0", "number of its network below a delegated prefix, such as 3 or 0x1f")
}

// into changes what a host follows by the options that are given.
func (f *followFlags) into(c *cobra.Command, v4, v6 *bool, ttl *uint32, below **dynaddr.Place) error {
	if f.v4only && f.v6only || f.both && (f.v4only || f.v6only) {
		return misuse("give one of --v4-only, --v6-only and --both")
	}
	if f.v4only || f.v6only || f.both {
		*v4, *v6 = !f.v6only, !f.v4only
	}
	if f.ttl != "" {
		seconds, err := zonefile.ParseTTL(f.ttl)
		if err != nil {
			return misuse("--ttl: %s", err)
		}
		*ttl = seconds
	}
	if f.own {
		*below = nil
	}
	if !c.Flags().Changed("interface") && !c.Flags().Changed("subnet") {
		return nil
	}
	place := dynaddr.Place{}
	if *below != nil {
		place = **below
	}
	if c.Flags().Changed("interface") {
		if err := place.Interface.UnmarshalText([]byte(f.iface)); err != nil {
			return misuse("--interface: %s", err)
		}
	}
	n, err := strconv.ParseUint(f.subnet, 0, 16)
	switch {
	case c.Flags().Changed("subnet") && err != nil:
		return misuse("--subnet: %q is no number from 0 to 65535", f.subnet)
	case c.Flags().Changed("subnet"):
		place.Subnet = uint16(n)
	}
	if place.Interface == (dynaddr.Interface{}) {
		return misuse("--subnet needs --interface")
	}
	*below = &place
	return nil
}

func (a *app) hostSetCommand() *cobra.Command {
	var follow followFlags
	var policy policyFlags
	var parameters parameterFlags
	c := &cobra.Command{
		Use: "set NAME", Short: "Change the settings of a dynamic host", Args: cobra.ExactArgs(1),
		Long: "Change what a dynamic host follows, and its policy: which addresses are accepted, how quickly, and what\n" +
			"happens when nothing is reported. Options that are not given stay as they are.",
		Example: "  beacon host set pier-cam.saltmarsh-ferries.example --silence 2h --on-silence remove",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var h wire.HostView
			if err := ask(a, wire.ShowHost, wire.None{}, &h, name); err != nil {
				return err
			}
			n := wire.HostSettings{Name: name, V4: h.Follows.V4, V6: h.Follows.V6, TTL: h.TTL, Below: h.Below, Policy: h.Policy}
			if h.Location == "" && len(h.Uplinks) > 0 {
				n.Parameters = h.Uplinks[0].Parameters
			}
			if err := follow.into(cmd, &n.V4, &n.V6, &n.TTL, &n.Below); err != nil {
				return err
			}
			if err := policy.into(cmd, &n.Policy); err != nil {
				return err
			}
			if err := parameters.into(&n.Parameters); err != nil {
				return err
			}
			if err := ask(a, wire.ChangeHost, n, &h, name); err != nil {
				return err
			}
			return a.show(h, func() { a.showSettings(h) })
		},
	}
	follow.add(c, "")
	c.Flags().BoolVar(&follow.both, "both", false, "follow an IPv4 and an IPv6 address")
	c.Flags().BoolVar(&follow.own, "own-address", false, "follow the IPv6 address of the uplink itself, no longer an interface part below its prefix")
	policy.add(c)
	policy.addInherit(c)
	parameters.add(c)
	return c
}

// showSettings shows what a host follows and by which rules.
func (a *app) showSettings(h wire.HostView) {
	a.printf("%s\n", a.paint(bold, plain(h.Name)))
	follows := map[dynaddr.Families]string{{V4: true}: "an IPv4 address", {V6: true}: "an IPv6 address", {V4: true, V6: true}: "an IPv4 and an IPv6 address"}[h.Follows]
	if h.Location != "" {
		follows += ", at location " + h.Location
	}
	a.printf("  %-16s%s; TTL %d\n", "follows", follows, h.TTL)
	if h.Below != nil {
		a.printf("  %-16sinterface %s, subnet %d\n", "below prefix", h.Below.Interface, h.Below.Subnet)
	}
	a.showPolicy(h.Rules, h.Policy)
	if h.Location == "" && len(h.Uplinks) > 0 {
		if text := parametersText(h.Uplinks[0].Parameters); text != "" {
			a.printf("  %-16s%s\n", "parameters", text)
		}
	}
}
