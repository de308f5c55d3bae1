package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/wire"
)

// careCommand shows how a zone is looked after, and changes it.
func (a *app) careCommand() *cobra.Command {
	var drift string
	var onlyOurs bool
	var protect, extras, sites []string
	c := &cobra.Command{Use: "care ZONE", Short: "How a zone is looked after: drift, protected sets, sites, attributes", Args: cobra.ExactArgs(1),
		Long: "Without flags, shows it. Each flag that is given replaces what was said before; an empty one takes it away.",
		Example: "  beacon zone care saltmarsh-ferries.example --drift 'put back' --protect '@ MX,www *'\n" +
			"  beacon zone care saltmarsh-ferries.example --extra 'www A relay=on'",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var z wire.ZoneView
			if err := ask(a, wire.ShowZone, wire.None{}, &z, name); err != nil {
				return err
			}
			changed, care := false, z.Care
			set := func(flag string, change func()) {
				if cmd.Flags().Changed(flag) {
					changed = true
					change()
				}
			}
			set("drift", func() { care.Drift = drift })
			set("only-ours", func() { care.OnlyOurs = onlyOurs })
			set("protect", func() { care.Protect = filled(protect) })
			set("sites", func() { care.Sites = filled(sites) })
			set("extra", func() { care.Extras, err = readExtras(filled(extras)) })
			if err != nil {
				return err
			}
			if changed {
				if err := ask(a, wire.SetCare, care, &care, name); err != nil {
					return err
				}
			}
			return a.show(care, func() { a.showCare(plain(name), care) })
		}}
	c.Flags().StringVar(&drift, "drift", "", "what becomes of changes made elsewhere: ask, put back or adopt")
	c.Flags().BoolVar(&onlyOurs, "only-ours", false, "leave sets that were there before us, whatever is wanted")
	c.Flags().StringSliceVar(&protect, "protect", nil, "patterns of sets whose going needs a yes of its own, such as 'www *'")
	c.Flags().StringSliceVar(&sites, "sites", nil, "the names that carry a site, which checks look at: '@,www,shop'")
	c.Flags().StringSliceVar(&extras, "extra", nil, "an attribute of a set at providers that know it: 'www A relay=on'")
	return c
}

func filled(list []string) []string {
	out := []string{}
	for _, text := range list {
		if strings.TrimSpace(text) != "" {
			out = append(out, strings.TrimSpace(text))
		}
	}
	return out
}

// readExtras takes "www A relay=on".
func readExtras(list []string) ([]wire.ExtraSet, error) {
	out := []wire.ExtraSet{}
	for _, text := range list {
		fields := strings.Fields(text)
		if len(fields) != 3 || !strings.Contains(fields[2], "=") {
			return nil, misuse("--extra %q: write it like 'www A relay=on'", text)
		}
		name, value, _ := strings.Cut(fields[2], "=")
		out = append(out, wire.ExtraSet{Set: fields[0] + " " + fields[1], Name: name, Value: value})
	}
	return out, nil
}

func (a *app) showCare(zone string, care wire.CareView) {
	a.printf("%s\n", a.paint(bold, zone))
	words := map[string]string{"ask": "shown, and somebody decides", "put back": "put back by itself", "adopt": "taken over by itself"}
	a.printf("  changes made elsewhere  %s\n", words[care.Drift])
	if care.OnlyOurs {
		a.printf("  what was there before   left, whatever is wanted\n")
	}
	if len(care.Protect) > 0 {
		a.printf("  protected               %s\n", strings.Join(care.Protect, ", "))
	}
	sites := strings.Join(care.Sites, ", ")
	if sites == "" {
		sites = "none"
	}
	a.printf("  sites                   %s\n", sites)
	for i, e := range care.Extras {
		what := "attributes"
		if i > 0 {
			what = ""
		}
		a.printf("  %-23s %s\n", what, fmt.Sprintf("%s: %s = %s", e.Set, e.Name, e.Value))
	}
}
