package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/record"
	"beacon/wire"
)

func (a *app) dsCommand() *cobra.Command {
	c := &cobra.Command{Use: "ds", Short: "Show, publish and remove the DS records of a domain",
		Long: "The DS records of a domain lead validating resolvers from its parent to its keys. They are computed from the keys that every active\n" +
			"nameserver serves, and go to the registrar, or into the parent zone where that is managed here."}
	c.AddCommand(a.dsShowCommand(), a.dsChangeCommand("publish DOMAIN", "Publish the DS records that fit the keys of the domain's nameservers", false),
		a.dsChangeCommand("remove DOMAIN", "Remove every DS record of a domain", true))
	return c
}

func (a *app) dsShowCommand() *cobra.Command {
	return &cobra.Command{Use: "show DOMAIN", Short: "Show the DS records of a domain, and those that fit its keys", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		name, err := parseName(args[0])
		if err != nil {
			return err
		}
		var got wire.DSChange
		if err := ask(a, wire.PreviewDS, wire.DSRequest{Compare: true}, &got, name); err != nil {
			return err
		}
		return a.show(got, func() { a.showDS(got) })
	}}
}

func (a *app) dsChangeCommand(use, short string, remove bool) *cobra.Command {
	r := wire.DSRequest{Remove: remove}
	var dryRun, yes bool
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		name, err := parseName(args[0])
		if err != nil {
			return err
		}
		var got wire.DSChange
		if err := ask(a, wire.PreviewDS, r, &got, name); err != nil {
			return err
		}
		if dryRun || got.ByHand || len(got.Closed) > 0 || !got.Pending {
			if err := a.show(got, func() { a.showDS(got) }); err != nil || len(got.Closed) == 0 {
				return err
			}
			return exit{ExitFailed, ""}
		}
		if !yes {
			if a.output == "table" {
				a.showDS(got)
			}
			if err := a.agreed(yes, "Change the DS records of "+plain(got.Domain)+" at "+got.Registrar+"?"); err != nil {
				return err
			}
		}
		var act wire.Act
		if err := ask(a, wire.ChangeDS, r, &act, name); err != nil {
			return err
		}
		return a.followAct(act.ID)
	}}
	c.Flags().StringSliceVar(&r.Override, "override", nil, "pass a closed gate, by its code")
	c.Flags().StringVar(&r.Reason, "reason", "", "why a gate is passed, for the logbook")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would change; change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// showDS shows a DS set at the parent, at the registrar, and as it fits the keys.
func (a *app) showDS(d wire.DSChange) {
	where := d.Registrar
	if where == "" {
		where = "no registrar account is named"
	}
	a.printf("%s: %s\n", a.paint(bold, plain(d.Domain)), where)
	lines := func(label string, list []record.Data) {
		if len(list) == 0 {
			list = []record.Data{"none"}
		}
		for _, ds := range list {
			a.printf("  %-21s%s\n", label, strings.Join(wrap(string(ds), width-23), "\n"+strings.Repeat(" ", 23)))
			label = ""
		}
	}
	lines("parent serves", d.Parent)
	if !d.ByHand {
		lines("registrar has", d.Before)
	}
	lines("fits the keys", d.DS)
	if d.ByHand {
		for _, ds := range d.DS {
			if f := strings.Fields(string(ds)); len(f) == 4 {
				a.printf("    key tag %s, algorithm %s, digest type %s (SHA-256), digest:\n    %s\n", f[0], f[1], f[2], f[3])
			}
		}
		for _, key := range d.Keys {
			lines("as DNSKEY", []record.Data{key})
		}
	}
	a.findings(d.Findings)
	if d.Next != "" {
		fmt.Fprintf(a.out, "  %s\n", d.Next)
	}
}
