package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// mostText bounds how much of zone files is read, in octets, those that are included counted.
const mostText = 256 << 20

type fault = zonefile.Fault

// includes hands out the files of one folder and those below it, and nothing outside.
type includes struct {
	root *os.Root
	left int64
}

// read returns a file by its name within the folder.
func (f *includes) read(name string) (string, error) {
	file, err := f.root.Open(filepath.FromSlash(name))
	if err != nil {
		var p *fs.PathError
		if errors.As(err, &p) {
			err = p.Err
		}
		return "", fmt.Errorf("%s: %w", name, err)
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.Mode().IsRegular() && info.Size() > f.left {
		return "", fmt.Errorf("%s has %d MB, and %d MB is the most that is read", name, info.Size()>>20, mostText>>20)
	}
	text, err := io.ReadAll(io.LimitReader(file, f.left+1))
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	if int64(len(text)) > f.left {
		return "", fmt.Errorf("%s is too long: %d MB is the most that is read", name, mostText>>20)
	}
	f.left -= int64(len(text))
	return string(text), nil
}

// include reads what a $INCLUDE line names, relative to the file that it stands in.
func (f *includes) include(name, from string) (zonefile.Included, error) {
	at := path.Join(path.Dir(from), filepath.ToSlash(name))
	if filepath.IsAbs(name) || at == ".." || strings.HasPrefix(at, "../") {
		return zonefile.Included{}, fmt.Errorf("%s lies outside the folder of the zone file; only files in it and below it are included", name)
	}
	text, err := f.read(at)
	return zonefile.Included{Name: at, Text: text}, err
}

// readZoneFile reads a zone file and what it includes; "-" is the standard input, which includes nothing.
func (a *app) readZoneFile(file string, origin dnsname.Name) (zonefile.Zone, []fault, error) {
	if file == "-" {
		text, err := io.ReadAll(io.LimitReader(a.in, mostText+1))
		if err == nil && len(text) > mostText {
			err = fmt.Errorf("more than %d MB", mostText>>20)
		}
		if err != nil {
			return zonefile.Zone{}, nil, misuse("the standard input: %s", err)
		}
		z, faults := zonefile.Read(string(text), zonefile.Options{Origin: origin, File: "-"})
		return z, faults, nil
	}
	root, err := os.OpenRoot(filepath.Dir(file))
	if err != nil {
		return zonefile.Zone{}, nil, misuse("%s", err)
	}
	defer root.Close()
	f := &includes{root: root, left: mostText}
	text, err := f.read(filepath.Base(file))
	if err != nil {
		return zonefile.Zone{}, nil, misuse("%s", err)
	}
	z, faults := zonefile.Read(text, zonefile.Options{Origin: origin, File: filepath.Base(file), Include: f.include})
	return z, faults, nil
}

// soundZoneFile is readZoneFile where faults end the command, all of them said. A file without records is one.
func (a *app) soundZoneFile(file string, origin dnsname.Name) (record.Contents, error) {
	z, faults, err := a.readZoneFile(file, origin)
	if len(faults) == 0 && err == nil {
		faults = z.Empty(filepath.Base(file))
	}
	if err == nil && len(faults) > 0 {
		err = a.sayFaults(file, faults)
	}
	return z.Contents(), err
}

// wholeZoneFile is soundZoneFile for the file of a whole zone; with partial, SOA and apex NS may be missing.
func (a *app) wholeZoneFile(file string, zone dnsname.Name, partial bool) (zonefile.Zone, error) {
	z, faults, err := a.readZoneFile(file, zone)
	if err != nil {
		return z, err
	}
	if len(faults) == 0 {
		faults = z.Whole(zone, filepath.Base(file))
		if partial {
			faults = z.Empty(filepath.Base(file))
		}
	}
	if len(faults) > 0 {
		return z, a.sayFaults(file, faults)
	}
	return z, nil
}

// partialFlag adds the option that a file is a list of records.
func partialFlag(c *cobra.Command, into *bool) {
	c.Flags().BoolVar(into, "partial", false, "the file is a list of records: accept it without SOA and apex NS")
}

func (a *app) zoneConvertCommand() *cobra.Command {
	var origin, as string
	c := &cobra.Command{
		Use: "convert FILE --origin NAME", Short: "Convert a zone file to another form; needs no service", Args: cobra.ExactArgs(1),
		Long: "Reads a zone file, with $INCLUDE from its own folder and $GENERATE, and prints what it says:\n\n" +
			"  canonical   one record a line: owner TTL CLASS TYPE data, in the order of DNSSEC\n" +
			"  zonefile    aligned, relative to the origin\n" +
			"  json, csv   for programs and tables\n" +
			"  definition  as a *.beacon.yaml, without the SOA and the apex NS of the old provider\n\n" +
			"Exit codes: 0 fine, 1 faults, 64 misuse.",
		Example: "  beacon zone convert demo/saltmarsh-ferries.zone --origin saltmarsh-ferries.example --as definition",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := dnsname.Parse(origin)
			if err != nil {
				return misuse("--origin: %s", err)
			}
			write, ok := zoneForms[as]
			if !ok {
				return misuse("--as is canonical, zonefile, json, csv or definition")
			}
			contents, err := a.soundZoneFile(args[0], name)
			if err != nil {
				return err
			}
			return a.showText(name, as, func(w io.Writer) error { return write(w, name, contents) })
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "name of the zone")
	c.Flags().StringVar(&as, "as", "canonical", "canonical, zonefile, json, csv or definition")
	_ = c.MarkFlagRequired("origin")
	return c
}

// zoneText is a zone in one of the forms that it has, within a document.
type zoneText struct {
	Zone dnsname.Name `json:"zone"`
	As   string       `json:"as"`
	Text string       `json:"text"`
}

// showText prints a zone in one of its forms; where a document is asked for, the text is within it.
func (a *app) showText(zone dnsname.Name, as string, write func(io.Writer) error) error {
	if a.output == "table" {
		return write(a.out)
	}
	var text strings.Builder
	if err := write(&text); err != nil {
		return err
	}
	return a.show(zoneText{zone, as, text.String()}, nil)
}

// zoneForms print contents in the forms that a zone has.
var zoneForms = map[string]func(io.Writer, dnsname.Name, record.Contents) error{
	"canonical": func(w io.Writer, _ dnsname.Name, c record.Contents) error { return zonefile.WriteCanonical(w, c) },
	"zonefile":  zonefile.Write,
	"csv":       func(w io.Writer, _ dnsname.Name, c record.Contents) error { return zonefile.WriteCSV(w, c) },
	"json": func(w io.Writer, _ dnsname.Name, c record.Contents) error {
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		return encoder.Encode(c.Canonical())
	},
	"definition": func(w io.Writer, zone dnsname.Name, c record.Contents) error {
		ours := c.Filter(func(k record.Key) bool { return k.Name != zone || k.Type != record.SOA && k.Type != record.NS })
		_, err := io.WriteString(w, definition.Write([]definition.Zone{{Name: zone, Contents: ours}}, nil))
		return err
	},
}

func (a *app) zoneCompareCommand() *cobra.Command {
	var origin string
	c := &cobra.Command{
		Use: "compare BEFORE AFTER --origin NAME", Short: "Show differences between two zone files; needs no service", Args: cobra.ExactArgs(2),
		Long: "Says what differs between two zone files, as records, whatever their order, spelling and layout.\n\n" +
			"Exit codes: 0 the same, 1 differences or faults, 64 misuse.",
		RunE: func(_ *cobra.Command, args []string) error {
			name, err := dnsname.Parse(origin)
			if err != nil {
				return misuse("--origin: %s", err)
			}
			before, err := a.soundZoneFile(args[0], name)
			if err != nil {
				return err
			}
			after, err := a.soundZoneFile(args[1], name)
			if err != nil {
				return err
			}
			return a.showCompared(name, before, after)
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "name of the zone")
	_ = c.MarkFlagRequired("origin")
	return c
}

// compared is what differs between two contents.
type compared struct {
	Added   []record.Record `json:"added"`
	Removed []record.Record `json:"removed"`
	Same    int             `json:"same"`
}

func (a *app) showCompared(zone dnsname.Name, before, after record.Contents) error {
	var d compared
	d.Added, d.Removed, d.Same = record.Difference(before, after)
	if err := a.show(d, func() {
		a.showRecords(zone, d.Added, d.Removed)
		a.printf("%d added, %d removed, %d the same.\n", len(d.Added), len(d.Removed), d.Same)
	}); err != nil {
		return err
	}
	if len(d.Added)+len(d.Removed) > 0 {
		return exit{ExitFailed, ""}
	}
	return nil
}
