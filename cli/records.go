package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/dnsname"
	"beacon/core/paste"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/zonefile"
	"beacon/wire"
)

func (a *app) recordCommand() *cobra.Command {
	c := &cobra.Command{Use: "record", Short: "Edit single records of a zone",
		Long: "Changes go into the zone's draft, where they are gathered and checked: beacon draft show ZONE. With --sync the draft is accepted and the zone synced."}
	c.AddCommand(a.recordListCommand(), a.recordAddCommand(), a.recordSetCommand(), a.recordChangeCommand(), a.recordRemoveCommand(), a.recordPasteCommand(),
		a.recordFixCommand(), a.recordTypesCommand(), a.recordReplaceCommand(), a.recordAttributeCommand())
	return c
}

// outcome is what becomes of a draft right after an edit.
type outcome struct {
	sync bool
	why  string
}

func (o *outcome) flags(c *cobra.Command) {
	c.Flags().BoolVar(&o.sync, "sync", false, "accept the draft and sync the zone, so that live DNS changes")
	c.Flags().StringVar(&o.why, "reason", "", "reason, kept with the revision")
}

// edit changes a zone's draft, shows it and, if asked to, puts it out.
func (a *app) edit(zone dnsname.Name, change wire.DraftChange, o outcome) error {
	d, err := a.draft(zone)
	if err != nil {
		return err
	}
	if err := askIf(a, wire.EditDraft, d.Tag, change, &d, zone); err != nil {
		return err
	}
	if !o.sync {
		return a.show(d, func() { a.showDraft(d) })
	}
	if a.output == "table" {
		a.showDraft(d)
	}
	return a.acceptDraft(d, o.why, true)
}

// recordArgs reads ZONE NAME TYPE and what follows.
func recordArgs(args []string) (zone, name dnsname.Name, t record.Type, rest string, err error) {
	if zone, err = dnsname.Parse(args[0]); err == nil {
		if name, err = dnsname.ParseRelative(args[1], zone); err == nil {
			t, err = record.ParseType(args[2])
		}
	}
	if err != nil {
		return zone, name, t, "", misuse("%s", err)
	}
	if !strings.HasSuffix(args[1], ".") { // a full name without its final dot is meant as one
		whole, wrong := dnsname.Parse(args[1])
		if wrong == nil && whole.IsAtOrBelow(zone) {
			name = whole
		}
	}
	return zone, name, t, strings.Join(args[3:], " "), nil
}

// dataOf makes data of presentation format, or of fields written as name=value.
func dataOf(t record.Type, text string, fields []string, zone dnsname.Name) (record.Data, error) {
	if len(fields) == 0 {
		if t == record.TXT && !strings.HasPrefix(text, `"`) {
			text = record.Quoted(text)
		}
		d, err := record.ParseData(t, text, zone)
		if err != nil {
			return "", misuse("%s; its fields are shown by: beacon record types %s", err, t)
		}
		return d, nil
	}
	if text != "" {
		return "", misuse("give the data either as in a zone file, or by --field")
	}
	values := map[string]string{}
	for _, f := range fields {
		name, value, found := strings.Cut(f, "=")
		if !found {
			return "", misuse("--field %q: write it like %s=%s", f, record.FormOf(t).Fields[0].Name, record.FormOf(t).Fields[0].Example)
		}
		values[name] = value
	}
	d, err := record.FormOf(t).Join(values, zone)
	if err != nil {
		return "", misuse("%s; the fields are shown by: beacon record types %s", err, t)
	}
	return d, nil
}

// ttlFlag reads a TTL that was given, or takes that of the set, or the zone's.
func (a *app) ttlFlag(text string, zone, name dnsname.Name, t record.Type) (uint32, error) {
	if text != "" {
		ttl, err := zonefile.ParseTTL(text)
		if err != nil {
			return 0, misuse("--ttl: %s", err)
		}
		return ttl, nil
	}
	list, err := all(a, wire.ListRecords, zone)
	if err != nil {
		return 0, err
	}
	c := record.NewContents(list)
	if set := c.Get(record.Key{Name: name, Type: t}); !set.IsZero() {
		return set.TTL, nil
	}
	return zonefile.CommonTTL(c), nil
}

func (a *app) recordAddCommand() *cobra.Command {
	var ttl string
	var fields []string
	var o outcome
	c := &cobra.Command{Use: "add ZONE NAME TYPE [DATA…]", Short: "Add a record to the draft", Args: cobra.MinimumNArgs(3),
		Example: "  beacon record add saltmarsh-ferries.example landing A 198.51.100.18 --ttl 5m\n  beacon record add saltmarsh-ferries.example @ MX --field preference=30 --field host=mx3.post.example.",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, name, t, text, err := recordArgs(args)
			if err != nil {
				return err
			}
			d, err := dataOf(t, text, fields, zone)
			if err != nil {
				return err
			}
			seconds, err := a.ttlFlag(ttl, zone, name, t)
			if err != nil {
				return err
			}
			return a.edit(zone, wire.DraftChange{Records: []wire.RecordEdit{{After: &record.Record{Name: name, TTL: seconds, Type: t, Data: d}}}}, o)
		}}
	c.Flags().StringVar(&ttl, "ttl", "", "such as 300 or 5m; else the TTL of the set, or the most common one of the zone")
	c.Flags().StringArrayVar(&fields, "field", nil, "a field of the type, as NAME=VALUE; may be repeated")
	o.flags(c)
	return c
}

// meant finds the record that arguments name.
func (a *app) meant(args []string) (zone dnsname.Name, r record.Record, err error) {
	zone, name, t, text, err := recordArgs(args)
	if err == nil {
		r, err = a.pick(zone, name, t, text)
	}
	return zone, r, err
}

// pick finds the record that is meant: by its data, or as the only one of its set.
func (a *app) pick(zone, name dnsname.Name, t record.Type, text string) (record.Record, error) {
	d, err := a.draft(zone)
	if err != nil {
		return record.Record{}, err
	}
	list, err := all(a, wire.ListRecords, zone)
	if err != nil {
		return record.Record{}, err
	}
	c := record.NewContents(list)
	for _, e := range d.Edits { // what the draft says counts
		if key := (record.Key{Name: name, Type: t}); e.After.Key() == key || e.Before.Key() == key {
			if c = c.Without(key); !e.After.IsZero() {
				c = c.With(e.After)
			}
		}
	}
	set := c.Get(record.Key{Name: name, Type: t})
	switch {
	case set.IsZero():
		return record.Record{}, exit{ExitFailed, fmt.Sprintf("%s has no %s record", plain(name), t)}
	case text == "" && len(set.Data) > 1:
		return record.Record{}, misuse("%s has %d %s records; say which by its data: %s", plain(name), len(set.Data), t, data(set))
	case text == "":
		return set.Records()[0], nil
	}
	wanted, err := dataOf(t, text, nil, zone)
	if err != nil {
		return record.Record{}, err
	}
	for _, r := range set.Records() {
		if r.Data == wanted {
			return r, nil
		}
	}
	return record.Record{}, exit{ExitFailed, fmt.Sprintf("%s %s has no %s; it has %s", plain(name), t, wanted, data(set))}
}

func (a *app) recordChangeCommand() *cobra.Command {
	var ttl, to string
	var fields []string
	var o outcome
	c := &cobra.Command{Use: "change ZONE NAME TYPE [DATA…]", Short: "Change a record in the draft", Args: cobra.MinimumNArgs(3),
		Long:    "Changes the record with this data, or the only one of its name and type. Fields that are not given stay as they are.",
		Example: "  beacon record change saltmarsh-ferries.example pier-cam A --to 198.51.100.19\n  beacon record change saltmarsh-ferries.example _tides._tcp SRV --field port=7448 --ttl 5m",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, before, err := a.meant(args)
			if err != nil {
				return err
			}
			after := before
			switch {
			case to != "":
				after.Data, err = dataOf(before.Type, to, nil, zone)
			case len(fields) > 0:
				values := record.FormOf(before.Type).Split(before.Data)
				var merged []string
				for name, value := range values {
					merged = append(merged, name+"="+value)
				}
				after.Data, err = dataOf(before.Type, "", append(merged, fields...), zone)
			case ttl == "":
				return misuse("name the change: --to DATA, --field NAME=VALUE or --ttl")
			}
			if err == nil && ttl != "" {
				after.TTL, err = a.ttlFlag(ttl, zone, before.Name, before.Type)
			}
			if err != nil {
				return err
			}
			return a.edit(zone, wire.DraftChange{Records: []wire.RecordEdit{{Before: &before, After: &after}}}, o)
		}}
	c.Flags().StringVar(&to, "to", "", "its new data")
	c.Flags().StringArrayVar(&fields, "field", nil, "a field of the type, as NAME=VALUE; may be repeated")
	c.Flags().StringVar(&ttl, "ttl", "", "its new TTL, for the whole record set")
	o.flags(c)
	return c
}

func (a *app) recordRemoveCommand() *cobra.Command {
	var o outcome
	c := &cobra.Command{Use: "remove ZONE NAME TYPE [DATA…]", Short: "Remove a record, in the draft", Args: cobra.MinimumNArgs(3),
		RunE: func(_ *cobra.Command, args []string) error {
			zone, before, err := a.meant(args)
			if err != nil {
				return err
			}
			return a.edit(zone, wire.DraftChange{Records: []wire.RecordEdit{{Before: &before}}}, o)
		}}
	o.flags(c)
	return c
}

func (a *app) recordPasteCommand() *cobra.Command {
	var ttl string
	var dryRun bool
	var o outcome
	c := &cobra.Command{Use: "paste ZONE [FILE]", Short: "Add records pasted from anywhere: zone-file lines, tables of a page", Args: cobra.RangeArgs(1, 2),
		Long: "Read a file or standard input line by line, show how each line is read and what was fixed, and add the records to the draft.",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, err := dnsname.Parse(args[0])
			if err != nil {
				return misuse("%s", err)
			}
			from := a.in
			if len(args) == 2 && args[1] != "-" {
				file, err := os.Open(args[1])
				if err != nil {
					return misuse("%s", err)
				}
				defer file.Close()
				from = file
			}
			text, err := io.ReadAll(io.LimitReader(from, 8<<20))
			if err != nil {
				return misuse("%s", err)
			}
			seconds, err := a.ttlFlag(ttl, zone, dnsname.Name{}, 0)
			if err != nil {
				return err
			}
			var change wire.DraftChange
			problems := 0
			rows := paste.Read(string(text), zone, seconds)
			for _, row := range rows {
				if a.output == "table" {
					a.showRow(zone, row)
				}
				if row.Problem != "" {
					problems++
				}
				for _, r := range row.Records {
					if row.LeftOut == "" {
						change.Records = append(change.Records, wire.RecordEdit{After: &r})
					}
				}
			}
			if a.output == "table" {
				a.printf("%s read, %s could not be.\n", count(len(change.Records), "record"), count(problems, "line"))
			}
			switch {
			case dryRun || len(change.Records) == 0 && problems == 0:
				return a.show(rows, func() {})
			case problems > 0:
				return exit{ExitFailed, "nothing changed; correct or remove those lines"}
			}
			return a.edit(zone, change, o)
		}}
	c.Flags().StringVar(&ttl, "ttl", "", "for records that state none")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what is read; change nothing")
	o.flags(c)
	return c
}

func (a *app) showRow(zone dnsname.Name, row paste.Row) {
	for _, r := range row.Records {
		mark := a.paint(green, "+")
		if row.LeftOut != "" {
			mark = a.paint(dim, ".")
		}
		a.recordLine(mark, zone, r)
	}
	if row.Problem != "" {
		a.printf("  %s line %d: %s\n      %s\n", a.paint(red, "!"), row.Line, row.Problem, row.Text)
	}
	for _, note := range append(append([]string{}, row.Notes...), row.LeftOut) {
		if note != "" {
			a.printf("      %s\n", note)
		}
	}
}

func (a *app) recordFixCommand() *cobra.Command {
	var o outcome
	c := &cobra.Command{Use: "fix ZONE CODE [NAME]", Short: "Add the fix of a finding to the draft", Args: cobra.RangeArgs(2, 3),
		Example: "  beacon zone check saltmarsh-ferries.example\n  beacon record fix saltmarsh-ferries.example www-missing",
		RunE: func(_ *cobra.Command, args []string) error {
			zone, err := dnsname.Parse(args[0])
			if err != nil {
				return misuse("%s", err)
			}
			d, err := a.draft(zone)
			if err != nil {
				return err
			}
			name := dnsname.Name{}
			if len(args) == 3 {
				if name, err = dnsname.ParseRelative(args[2], zone); err != nil {
					return misuse("%s", err)
				}
			}
			var fixes []rules.Edit
			told := false
			for _, f := range d.Findings {
				if f.Code == args[1] && (name.IsZero() || f.Key.Name == name) {
					fixes = append(fixes, f.Fix...)
					told = true
				}
			}
			switch {
			case !told:
				return exit{ExitFailed, fmt.Sprintf("nothing of the kind %s is found in %s", args[1], plain(zone))}
			case len(fixes) == 0:
				return exit{ExitFailed, fmt.Sprintf("%s has no automatic fix: edit the record", args[1])}
			}
			return a.edit(zone, wire.DraftChange{Sets: fixes}, o)
		}}
	o.flags(c)
	return c
}

func (a *app) recordTypesCommand() *cobra.Command {
	return &cobra.Command{Use: "types [TYPE]", Short: "List record types, or the fields of one", Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.show(record.Forms(), func() {
					var rows [][]string
					for _, f := range record.Forms() {
						rows = append(rows, []string{f.Type.String(), f.Means})
					}
					a.table([]string{"TYPE", "FOR"}, rows)
				})
			}
			t, err := record.ParseType(args[0])
			if err != nil {
				return misuse("%s", err)
			}
			form := record.FormOf(t)
			return a.show(form, func() {
				a.printf("%s: %s (%s)\n", a.paint(bold, form.Type.String()), form.Means, form.Source)
				var rows [][]string
				for _, f := range form.Fields {
					text := f.Explain
					for _, choice := range f.Choices {
						text += " " + choice.Value + ": " + choice.Means + ";"
					}
					rows = append(rows, []string{f.Name, f.Example, strings.TrimSuffix(text, ";")})
				}
				a.table([]string{"FIELD", "SUCH AS", "MEANING"}, rows)
			})
		}}
}

func (a *app) recordListCommand() *cobra.Command {
	var name, typ string
	c := &cobra.Command{Use: "list ZONE", Short: "List the desired records of a zone", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			zone, err := dnsname.Parse(args[0])
			if err != nil {
				return misuse("%s", err)
			}
			list, err := all(a, wire.ListRecords, zone)
			if err != nil {
				return err
			}
			kept := []record.Record{}
			for _, r := range list {
				if (name == "" || r.Name.Relative(zone) == name || plain(r.Name) == name) && (typ == "" || strings.EqualFold(r.Type.String(), typ)) {
					kept = append(kept, r)
				}
			}
			d, err := a.draft(zone)
			if err != nil {
				return err
			}
			return a.show(kept, func() {
				var rows [][]string
				for _, r := range kept {
					rows = append(rows, []string{shown(r.Name, zone), fmt.Sprint(r.TTL), r.Type.String(), d.From[r.Key().String()], string(r.Data)})
				}
				a.table([]string{"NAME", "TTL", "TYPE", "KIT", "DATA"}, rows)
				if len(d.Edits) > 0 {
					a.printf("The draft changes some of it: beacon draft show %s\n", plain(zone))
				}
			})
		}}
	c.Flags().StringVar(&name, "name", "", "only of this name")
	c.Flags().StringVar(&typ, "type", "", "only of this type")
	return c
}

// shown prints a name relative to its zone, in Unicode.
func shown(name, zone dnsname.Name) string {
	text := name.Relative(zone)
	if strings.Contains(text, "xn--") {
		return strings.TrimSuffix(name.Unicode(), "."+zone.Unicode())
	}
	return text
}
