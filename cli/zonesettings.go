package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/soa"
	"beacon/wire"
)

// zoneSettingsCommand shows how a zone is looked after, and changes it.
func (a *app) zoneSettingsCommand() *cobra.Command {
	var drift string
	var keepExisting bool
	var protect, attributes, websites, parameters []string
	c := &cobra.Command{Use: "settings ZONE", Short: "Show or change zone settings: drift, protected sets, websites, attributes, SOA fields", Args: cobra.ExactArgs(1),
		Long: "Show zone settings, or change them with flags. Each flag replaces the value before; an empty one removes it.\n" +
			"--soa replaces only the fields that it names: " + strings.Join(soa.Fields, ", ") + ".",
		Example: "  beacon zone settings saltmarsh-ferries.example --drift revert --protect '@ MX,www *'\n" +
			"  beacon zone settings saltmarsh-ferries.example --attribute 'www A relay=on'\n" +
			"  beacon zone settings saltmarsh-ferries.example --soa rname=hostmaster@saltmarsh-ferries.example,minimum=5m",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := parseName(args[0])
			if err != nil {
				return err
			}
			var z wire.ZoneView
			if err := ask(a, wire.ShowZone, wire.None{}, &z, name); err != nil {
				return err
			}
			changed, settings := false, z.Settings
			set := func(flag string, change func()) {
				if cmd.Flags().Changed(flag) {
					changed = true
					change()
				}
			}
			set("drift", func() { settings.Drift = drift })
			set("keep-existing", func() { settings.KeepExisting = keepExisting })
			set("protect", func() { settings.Protect = filled(protect) })
			set("websites", func() { settings.Websites = filled(websites) })
			set("attribute", func() { settings.Attributes, err = readAttributes(filled(attributes)) })
			if err != nil {
				return err
			}
			set("soa", func() { settings.SOA, err = readSOA(settings.SOA, filled(parameters)) })
			if err != nil {
				return err
			}
			if changed {
				if err := ask(a, wire.SetZoneSettings, settings, &settings, name); err != nil {
					return err
				}
			}
			return a.show(settings, func() {
				a.showZoneSettings(plain(name), settings)
				a.showSOA(settings.SOA, z.DefaultSOA)
				if cmd.Flags().Changed("soa") {
					a.printf("Nothing is written to a provider yet. Sync the zone: beacon sync %s\n", plain(name))
				}
			})
		}}
	c.Flags().StringVar(&drift, "drift", "", "what to do with changes made at a provider: manual, revert or adopt")
	c.Flags().BoolVar(&keepExisting, "keep-existing", false, "keep sets that were at the provider before, whatever is desired")
	c.Flags().StringSliceVar(&protect, "protect", nil, "patterns of sets whose removal needs its own --allow, such as 'www *'")
	c.Flags().StringSliceVar(&websites, "websites", nil, "names of websites, which checks visit: '@,www,shop'")
	c.Flags().StringSliceVar(&attributes, "attribute", nil, "an attribute of a record set, where the provider has it: 'www A relay=on'")
	c.Flags().StringSliceVar(&parameters, "soa", nil, "fields of the SOA record, where a provider lets them be set: 'minimum=5m'; 'minimum=' removes one")
	return c
}

// readSOA takes "minimum=5m" over the fields before; none at all removes them.
func readSOA(before wire.SOA, list []string) (wire.SOA, error) {
	p, err := before.Parameters()
	if err != nil || len(list) == 0 {
		return wire.SOA{}, err
	}
	for _, text := range list {
		field, value, ok := strings.Cut(text, "=")
		if !ok {
			return before, misuse("--soa %q: write it like minimum=5m", text)
		}
		if err := p.Set(field, value); err != nil {
			return before, misuse("--soa %s", err)
		}
	}
	return wire.SOAOf(p), nil
}

// showSOA shows the desired fields of the SOA record: the zone's own, and the defaults of the service.
func (a *app) showSOA(own, defaults wire.SOA) {
	p, err := own.Parameters()
	if err != nil {
		return
	}
	below, err := defaults.Parameters()
	if err != nil {
		return
	}
	what := "SOA record"
	for _, field := range p.Over(below).Given() {
		note := ""
		if p.Get(field) == "" {
			note = "  (default of the service)"
		}
		a.printf("  %-23s %s = %s%s\n", what, field, p.Over(below).Get(field), note)
		what = ""
	}
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

// readAttributes takes "www A relay=on".
func readAttributes(list []string) ([]wire.SetAttribute, error) {
	out := []wire.SetAttribute{}
	for _, text := range list {
		fields := strings.Fields(text)
		if len(fields) != 3 || !strings.Contains(fields[2], "=") {
			return nil, misuse("--attribute %q: write it like 'www A relay=on'", text)
		}
		name, value, _ := strings.Cut(fields[2], "=")
		out = append(out, wire.SetAttribute{Set: fields[0] + " " + fields[1], Name: name, Value: value})
	}
	return out, nil
}

func (a *app) showZoneSettings(zone string, settings wire.ZoneSettings) {
	a.printf("%s\n", a.paint(bold, zone))
	words := map[string]string{"manual": "shown; a user decides", "revert": "reverted automatically", "adopt": "adopted automatically"}
	a.printf("  changes made elsewhere  %s\n", words[settings.Drift])
	if settings.KeepExisting {
		a.printf("  existing sets           kept, whatever is desired\n")
	}
	if len(settings.Protect) > 0 {
		a.printf("  protected               %s\n", strings.Join(settings.Protect, ", "))
	}
	websites := strings.Join(settings.Websites, ", ")
	if websites == "" {
		websites = "none"
	}
	a.printf("  websites                %s\n", websites)
	for i, e := range settings.Attributes {
		what := "attributes"
		if i > 0 {
			what = ""
		}
		a.printf("  %-23s %s\n", what, fmt.Sprintf("%s: %s = %s", e.Set, e.Name, e.Value))
	}
}
