// Package definition reads definition files (*.beacon.yaml), which say what zones should contain and where they are
// served:
//
//	values:                     # may be used as ${name} in this file
//	  office: {environment: OFFICE_ADDRESS}
//	kits:                       # named groups of records, used by zones of all files
//	  post-office:
//	    parameters:
//	      policy: {type: choice, of: [none, quarantine, reject], default: none}
//	    records: |
//	      @       MX   10 mx1.post.example.
//	      _dmarc  TXT  "v=DMARC1; p=${policy}"
//	zones:
//	  saltmarsh-ferries.example:
//	    description: Public site of the ferry line
//	    providers: [heron-main]        # accounts at DNS providers
//	    registrar: gannet-main  # account at the registrar
//	    ttl: 1h                 # for records that state none
//	    kits: [{post-office: {policy: quarantine}}]
//	    records: |
//	      @    A      192.0.2.40
//	      www  CNAME  @
//	    ignore: ["_acme-challenge.** TXT"]   # sets that another system manages
//
// Records stand in master-file lines (RFC 1035 section 5.1). Every fault is reported with file, line and column; with
// any fault, a definition is not to be used. Write is the inverse for what it can say.
//
// read.go walks the YAML, kits.go and zones.go read their parts of it, expand.go makes records of kits and values,
// write.go prints a definition, fit.go finds the kits that a zone could be written with.
package definition

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// File is one definition file as text, with what it may know of the environment of whoever gives it.
type File struct {
	Name        string            `json:"name" required:"true"`
	Text        string            `json:"text" required:"true"`
	Environment map[string]string `json:"environment,omitempty"` // the variables that the file names; see Environment
}

// Definition is what files say together.
type Definition struct {
	Zones []Zone // in the order of the files
	Kits  []Kit
}

// Zone is what a definition says of one zone.
type Zone struct {
	Name        dnsname.Name
	Description string   // for people
	Providers   []string // provider accounts that serve it
	Registrar   string   // registrar account that the domain is registered with; empty for none
	// Nameservers are those that the domain should be delegated to, sorted; DelegateTo is the provider account whose nameservers are
	// meant. Where both are empty, the definition says nothing of it.
	Nameservers []dnsname.Name
	DelegateTo  string
	TTL         uint32 // for records that state none, in seconds
	Contents    record.Contents
	Written     []record.Record  // its records as they were written; Contents holds them sorted, each once
	Origins     []Origin         // where each of them comes from, in the same order
	Uses        []Use            // the kits that it uses
	Ignore      []record.Pattern // sets that another system manages
	Settings
	File string
	Line int
}

// Origin is where a record comes from.
type Origin struct {
	Kit  string `json:"kit"` // empty for the zone's own records
	File string `json:"file"`
	Line int    `json:"line"`
}

// FromKits returns the kit that each set comes from, for those that come from one.
func (z Zone) FromKits() map[record.Key]string {
	from := map[record.Key]string{}
	for i, o := range z.Origins {
		if o.Kit != "" {
			from[z.Written[i].Key()] = o.Kit
		}
	}
	return from
}

// Use is one use of a kit.
type Use struct {
	Kit  string            `json:"kit"`
	With map[string]string `json:"with"` // its parameters as they were written
	at   zonefile.Place
}

// defaultTTL is what records get where neither they nor their zone state a TTL, in seconds.
const defaultTTL = 3600

// Read reads all files as one definition. Zones come in the order of the files.
func Read(files []File) (Definition, []zonefile.Fault) {
	r := &reader{kits: map[string]*kitSource{}, zones: map[dnsname.Name]*zoneSource{}}
	for _, f := range files {
		r.readFile(f)
	}
	r.checkKits()
	var d Definition
	for _, name := range r.kitOrder {
		d.Kits = append(d.Kits, r.kits[name].Kit)
	}
	for _, z := range r.inOrder() {
		d.Zones = append(d.Zones, r.makeZone(z))
	}
	for _, z := range r.again {
		r.makeZone(z)
	}
	return d, r.sorted()
}

// sorted returns the faults by their places, each once.
func (r *reader) sorted() []zonefile.Fault {
	zonefile.SortFaults(r.faults)
	return slices.CompactFunc(r.faults, func(a, b zonefile.Fault) bool { return a == b })
}

// inOrder returns the zones that were read, in the order of the files.
func (r *reader) inOrder() []*zoneSource {
	list := make([]*zoneSource, len(r.zoneOrder))
	for i, name := range r.zoneOrder {
		list[i] = r.zones[name]
	}
	return list
}

// source is one file while it is read.
type source struct {
	name        string
	lines       []string
	environment map[string]string
	values      map[string]string
}

type reader struct {
	file      *source // that is read now
	kits      map[string]*kitSource
	kitOrder  []string
	zones     map[dnsname.Name]*zoneSource
	zoneOrder []dnsname.Name
	again     []*zoneSource // zones that were defined before
	made      int           // records that kits have made so far
	learned   bool          // the kits of all files are known already
	faults    []zonefile.Fault
}

func (r *reader) faultAt(line, column int, message, remedy string) {
	r.faults = append(r.faults, zonefile.Fault{File: r.file.name, Line: line, Column: column, Message: message, Remedy: remedy})
}

// in reads something of another file than the one read last.
func (r *reader) in(s *source, do func()) {
	before := r.file
	r.file = s
	do()
	r.file = before
}

func twiceMessage(what, name, file string, line int) string {
	return fmt.Sprintf("%s %s is defined twice, first at %s:%d", what, name, file, line)
}

// indent puts a margin before each line that is not empty.
func indent(text, margin string) string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for i, line := range lines {
		if line != "" {
			lines[i] = margin + line
		}
	}
	return strings.Join(lines, "\n") + "\n"
}
