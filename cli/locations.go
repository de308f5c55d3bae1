package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"beacon/wire"
)

func (a *app) locationCommand() *cobra.Command {
	c := &cobra.Command{Use: "location", Short: "Manage locations: places whose dynamic hosts follow the best uplink",
		Long: "A location is a place with one or more uplinks to the internet, such as a fixed line and LTE. Each uplink reports\n" +
			"with its own token. All dynamic hosts at the location follow the first uplink that reports."}
	c.AddCommand(a.locationAddCommand(), a.locationListCommand(), a.locationShowCommand(), a.locationSetCommand(), a.locationRemoveCommand(), a.locationAddUplinkCommand(), a.locationRemoveUplinkCommand())
	return c
}

func (a *app) locationAddCommand() *cobra.Command {
	var n wire.NewLocation
	var policy policyFlags
	var folder string
	c := &cobra.Command{
		Use: "add NAME", Short: "Add a location with its uplinks, and create their tokens", Args: cobra.ExactArgs(1),
		Long:    "Add a location with its uplinks, the best one first, and print the token of each.\nThe tokens are shown only once.",
		Example: "  beacon location add pier --uplink fibre --uplink lte --token-folder .",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			if err := policy.into(cmd, &n.Policy); err != nil {
				return err
			}
			var added wire.LocationAdded
			if err := ask(a, wire.AddLocation, n, &added); err != nil {
				return err
			}
			files := make([]string, len(added.Tokens))
			for i, t := range added.Tokens {
				if folder == "" {
					continue
				}
				files[i] = filepath.Join(folder, added.Name+"-"+t.Uplink+".token")
				if err := keepToken(files[i], t.Token); err != nil {
					return fmt.Errorf("location %s was added, but the token of uplink %s could not be stored: %w; create another one: beacon token renew %[1]s/%[2]s", added.Name, t.Uplink, err)
				}
			}
			return a.show(added, func() {
				a.printf("Location %s was added. Let names follow it: beacon host add NAME --location %[1]s\n", added.Name)
				for i, t := range added.Tokens {
					if files[i] != "" {
						a.printf("  uplink %s: its token is in %s\n", t.Uplink, files[i])
						continue
					}
					a.printf("  uplink %s: its token, shown this once: %s\n", t.Uplink, t.Token)
				}
				a.printf("Each uplink reports with its own token:\n  curl -u %s:TOKEN '%s/api/v1/report'\n", added.Name, strings.TrimSuffix(a.address, "/"))
			})
		},
	}
	c.Flags().StringArrayVar(&n.Uplinks, "uplink", nil, "name of an uplink, the best one first; else one that is called main")
	c.Flags().StringVar(&n.Description, "description", "", "what it is, for readers")
	c.Flags().StringVar(&folder, "token-folder", "", "write the tokens to files in this folder instead of showing them")
	policy.add(c)
	return c
}

// keepToken writes a token to a file that is not there yet.
func keepToken(file, token string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	switch {
	case errors.Is(err, fs.ErrExist):
		return fmt.Errorf("%s is there already", file)
	case err != nil:
		return fmt.Errorf("%v", err) // as a text: what follows is more than that a file could not be opened
	}
	if _, err = f.WriteString(token + "\n"); err == nil {
		err = f.Sync()
	}
	if wrong := f.Close(); err == nil {
		err = wrong
	}
	return err
}

func (a *app) locationListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List locations with their uplinks and hosts", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		list, err := all(a, wire.ListLocations)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list) == 0 {
				a.printf("There is no location yet. Add one: beacon location add NAME\n")
				return
			}
			var rows [][]string
			for _, l := range list {
				var hosts []string
				for _, h := range l.Hosts {
					hosts = append(hosts, plain(h.Name))
				}
				rows = append(rows, []string{l.Name, uplinksText(l.Uplinks), strings.Join(hosts, ", ")})
			}
			a.table([]string{"LOCATION", "UPLINKS", "HOSTS"}, rows)
		})
	}}
}

// uplinksText says in a few words which uplinks report.
func uplinksText(list []wire.UplinkView) string {
	var parts []string
	for _, u := range list {
		parts = append(parts, u.Name+" "+uplinkState(u))
	}
	return strings.Join(parts, ", ")
}

func uplinkState(u wire.UplinkView) string {
	switch {
	case u.Refused != "":
		return "refused"
	case u.SeenAt == nil:
		return "never reported"
	case !u.Reports:
		return "silent"
	case u.Translated != "":
		return "unreachable"
	}
	return "reporting"
}

func (a *app) locationShowCommand() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a location with its uplinks and hosts", Args: cobra.ExactArgs(1), Example: "  beacon location show pier",
		RunE: func(_ *cobra.Command, args []string) error {
			var l wire.LocationView
			if err := ask(a, wire.ShowLocation, wire.None{}, &l, args[0]); err != nil {
				return err
			}
			return a.show(l, func() { a.showLocation(l) })
		}}
}

func (a *app) showLocation(l wire.LocationView) {
	a.printf("%s\n", a.paint(bold, l.Name))
	if l.Description != "" {
		a.printf("  %s\n", l.Description)
	}
	a.showPolicy(l.Rules, l.Policy)
	a.printf("\n")
	a.showUplinks(l.Uplinks)
	a.printf("\n")
	if len(l.Hosts) == 0 {
		a.printf("No dynamic host follows it yet. Add one: beacon host add NAME --location %s\n", l.Name)
		return
	}
	a.hostTable(l.Hosts)
}

// showUplinks shows the uplinks of a location, the best one first.
func (a *app) showUplinks(list []wire.UplinkView) {
	var rows [][]string
	for _, u := range list {
		addresses := strings.Join(append(strings.Fields(u.V4+" "+u.V6), u.Prefixes...), " ")
		if u.Translated != "" {
			addresses = strings.TrimSpace(u.Translated + " (behind the provider's address translation) " + addresses)
		}
		seen := "never"
		if u.SeenAt != nil {
			seen = u.SeenAt.Local().Format("2006-01-02 15:04") + " from " + u.SeenFrom
		}
		note := uplinkState(u)
		if u.Refused != "" {
			note += ": " + u.Refused
		}
		if text := parametersText(u.Parameters); text != "" {
			note += "; " + text
		}
		rows = append(rows, []string{u.Name, addresses, seen, note})
	}
	a.table([]string{"UPLINK", "ADDRESS", "LAST REPORTED", "STATE"}, rows)
}

func (a *app) locationSetCommand() *cobra.Command {
	var n wire.LocationSettings
	var policy policyFlags
	var parameters parameterFlags
	var uplink string
	c := &cobra.Command{
		Use: "set NAME", Short: "Change the settings of a location", Args: cobra.ExactArgs(1),
		Long: "Change the policy that the hosts of a location inherit, the order of its uplinks, or with --uplink what the client\n" +
			"of one uplink calls its parameters. Options that are not given stay as they are.",
		Example: "  beacon location set pier --silence 2h --on-silence remove\n  beacon location set pier --uplink lte --parameter v4=ipaddr --ignore user",
		RunE: func(cmd *cobra.Command, args []string) error {
			var l wire.LocationView
			if err := ask(a, wire.ShowLocation, wire.None{}, &l, args[0]); err != nil {
				return err
			}
			if len(parameters.names) > 0 || len(parameters.ignore) > 0 || parameters.usual {
				if uplink == "" {
					return misuse("name the uplink whose parameters these are: --uplink")
				}
			}
			set := wire.UplinkSettings{Location: l.Name, Name: uplink}
			for _, u := range l.Uplinks {
				if u.Name == uplink {
					set.Parameters = u.Parameters
				}
			}
			if err := parameters.into(&set.Parameters); err != nil {
				return err
			}
			n.Policy = l.Policy
			if !cmd.Flags().Changed("description") {
				n.Description = l.Description
			}
			if err := policy.into(cmd, &n.Policy); err != nil {
				return err
			}
			if err := ask(a, wire.ChangeLocation, n, &l, args[0]); err != nil {
				return err
			}
			if uplink != "" {
				if err := ask(a, wire.ChangeUplink, set, &l, args[0], uplink); err != nil {
					return err
				}
			}
			return a.show(l, func() { a.showLocation(l) })
		},
	}
	c.Flags().StringVar(&n.Description, "description", "", "what it is, for readers")
	c.Flags().StringSliceVar(&n.Uplinks, "uplinks", nil, "order of its uplinks, the best one first")
	c.Flags().StringVar(&uplink, "uplink", "", "the uplink whose parameters are changed")
	policy.add(c)
	policy.addInherit(c)
	parameters.add(c)
	return c
}

func (a *app) locationRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "Remove a location that has no hosts, and revoke its tokens", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		if err := a.agreed(yes, "Remove location "+args[0]+"?"); err != nil {
			return err
		}
		if err := ask(a, wire.RemoveLocation, wire.None{}, nil, args[0]); err != nil {
			return err
		}
		return a.show(map[string]any{"name": args[0], "removed": true}, func() { a.printf("Removed location %s, and revoked its tokens.\n", args[0]) })
	}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) locationAddUplinkCommand() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "add-uplink LOCATION NAME", Short: "Add an uplink behind the others of a location, and create its token", Args: cobra.ExactArgs(2),
		Example: "  beacon location add-uplink pier lte --token-file lte.token",
		RunE: func(_ *cobra.Command, args []string) error {
			var added wire.UplinkToken
			if err := ask(a, wire.AddUplink, wire.NewUplink{Name: args[1]}, &added, args[0]); err != nil {
				return err
			}
			if file != "" {
				if err := keepToken(file, added.Token); err != nil {
					return fmt.Errorf("uplink %s was added, but its token could not be stored: %w; create another one: beacon token renew %s/%[1]s", args[1], err, args[0])
				}
			}
			return a.show(added, func() {
				if file != "" {
					a.printf("Uplink %s of %s was added. Its token is in %s.\n", added.Uplink, args[0], file)
					return
				}
				a.printf("Uplink %s of %s was added. Its token, shown this once:\n  %s\n", added.Uplink, args[0], added.Token)
			})
		}}
	c.Flags().StringVar(&file, "token-file", "", "write the token to this file instead of showing it")
	return c
}

func (a *app) locationRemoveUplinkCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove-uplink LOCATION NAME", Short: "Remove an uplink of a location, and revoke its token", Args: cobra.ExactArgs(2), RunE: func(_ *cobra.Command, args []string) error {
		if err := a.agreed(yes, "Remove uplink "+args[1]+" of location "+args[0]+"?"); err != nil {
			return err
		}
		if err := ask(a, wire.RemoveUplink, wire.None{}, nil, args[0], args[1]); err != nil {
			return err
		}
		return a.show(map[string]any{"location": args[0], "name": args[1], "removed": true}, func() {
			a.printf("Removed uplink %s of %s, and revoked its token. Hosts that followed it follow the next one.\n", args[1], args[0])
		})
	}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
