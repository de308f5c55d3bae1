package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/wire"
)

func (a *app) recordAttributeCommand() *cobra.Command {
	var o outcome
	c := &cobra.Command{Use: "attribute ZONE NAME TYPE NAME=VALUE…", Short: "Declare attributes of a record set in the draft, such as a relay", Args: cobra.MinimumNArgs(4),
		Long: "An attribute is what a provider keeps with a record set besides its records; beacon provider show names those of an account. An empty value leaves\n" +
			"the attribute to the provider again.",
		Example: "  beacon record attribute saltmarsh-ferries.example @ A relay=on\n  beacon record attribute saltmarsh-ferries.example @ A relay=",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, name, t, _, err := recordArgs(args[:3])
			if err != nil {
				return err
			}
			var change wire.DraftChange
			for _, text := range args[3:] {
				attribute, value, found := strings.Cut(text, "=")
				if !found || attribute == "" {
					return misuse("%q: write it like relay=on", text)
				}
				change.Attributes = append(change.Attributes, wire.SetAttribute{Set: setLabel(zone, name, t), Name: attribute, Value: value})
			}
			return a.edit(zone, change, o)
		}}
	o.flags(c)
	return c
}

// setLabel writes a set as a definition does, such as www A.
func setLabel(zone, name dnsname.Name, t record.Type) string {
	if name == zone {
		return "@ " + t.String()
	}
	return name.Relative(zone) + " " + t.String()
}
