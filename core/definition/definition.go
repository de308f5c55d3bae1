// Package definition reads definition files (*.beacon.yaml), which say what zones should contain and where they are
// served:
//
//	zones:
//	  saltmarsh-ferries.example:
//	    label: Public site of the ferry line
//	    at: [heron-main]        # accounts at DNS providers
//	    registrar: gannet-main  # account at the registrar
//	    ttl: 1h                 # for records that state none
//	    records: |
//	      @    A      192.0.2.40
//	      www  CNAME  @
//
// Records stand in master-file lines (RFC 1035 section 5.1). Every fault is reported with file, line and column; with
// any fault, a definition is not to be used. Write is the inverse for what it can say.
package definition

import (
	"fmt"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// File is one definition file as text.
type File struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Zone is what a definition says of one zone.
type Zone struct {
	Name      dnsname.Name
	Label     string   // for people
	At        []string // provider accounts that shall serve it
	Registrar string   // registrar account that the domain is registered with; empty for none
	Contents  record.Contents
	Written   []record.Record // its records as they were written; Contents holds them sorted, each once
	File      string
	Line      int
}

// defaultTTL is what records get where neither they nor their zone state a TTL, in seconds.
const defaultTTL = 3600

// Read reads all files as one definition. Zones come in the order of the files.
func Read(files []File) ([]Zone, []zonefile.Fault) {
	r := &reader{}
	seen := map[dnsname.Name]Zone{}
	for _, f := range files {
		r.file = f
		r.lines = strings.Split(f.Text, "\n")
		for _, z := range r.readFile() {
			if first, twice := seen[z.Name]; twice {
				r.faultAt(z.Line, 1, fmt.Sprintf("zone %s is defined twice, first at %s:%d", z.Name, first.File, first.Line),
					"put everything about a zone into one place")
				continue
			}
			seen[z.Name] = z
			r.zones = append(r.zones, z)
		}
	}
	zonefile.SortFaults(r.faults)
	return r.zones, r.faults
}

// Write prints zones as a definition file that Read understands.
func Write(zones []Zone) string {
	var b strings.Builder
	b.WriteString("zones:\n")
	for _, z := range zones {
		fmt.Fprintf(&b, "  %s:\n", strings.TrimSuffix(z.Name.String(), "."))
		if z.Label != "" {
			fmt.Fprintf(&b, "    label: %q\n", z.Label)
		}
		if len(z.At) > 0 {
			fmt.Fprintf(&b, "    at: [%s]\n", strings.Join(z.At, ", "))
		}
		if z.Registrar != "" {
			fmt.Fprintf(&b, "    registrar: %s\n", z.Registrar)
		}
		lines := strings.Split(strings.TrimSuffix(zonefile.Text(z.Name, z.Contents), "\n"), "\n")
		ttl := strings.TrimPrefix(lines[1], "$TTL ")
		fmt.Fprintf(&b, "    ttl: %s\n    records: |\n", ttl)
		for _, line := range lines[2:] {
			fmt.Fprintf(&b, "      %s\n", line)
		}
	}
	return b.String()
}
