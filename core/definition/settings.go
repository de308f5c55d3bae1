package definition

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/soa"
)

// Settings is what a definition says about how a zone is looked after, besides what it contains.
type Settings struct {
	Attributes   []SetAttributes  // of sets, by key
	Protect      []record.Pattern // sets whose going needs a yes of its own
	Drift        string           // what becomes of changes made at the provider: DriftManual, DriftRevert or DriftAdopt
	KeepExisting bool             // sets that were there before us are left, whatever is wanted
	SOA          soa.Parameters   // desired fields of the SOA record, where a provider lets them be set
	Websites     []dnsname.Name   // the names that carry a site; nil for those that usually do, none where it is empty
}

// MostWebsites bounds how many names of one zone are visited as websites.
const MostWebsites = 8

// ParseWebsites parses names below a zone, and @ for its apex.
func ParseWebsites(texts []string, zone dnsname.Name) ([]dnsname.Name, error) {
	list := []dnsname.Name{}
	for _, text := range texts {
		name := zone
		if text != "@" {
			var err error
			if name, err = dnsname.ParseRelative(text, zone); err != nil {
				return nil, err
			}
		}
		if !name.IsAtOrBelow(zone) {
			return nil, fmt.Errorf("%q does not lie in %s", text, strings.TrimSuffix(zone.String(), "."))
		}
		if !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	if len(list) > MostWebsites {
		return nil, fmt.Errorf("at most %d names of a zone are visited as websites", MostWebsites)
	}
	return list, nil
}

// WebsiteLabels writes names as ParseSites takes them.
func WebsiteLabels(sites []dnsname.Name, zone dnsname.Name) []string {
	labels := make([]string, len(sites))
	for i, name := range sites {
		if labels[i] = "@"; name != zone {
			labels[i] = name.Relative(zone)
		}
	}
	return labels
}

// readWebsites takes a list of names.
func (r *reader) readWebsites(n *yaml.Node, zone dnsname.Name) []dnsname.Name {
	var texts []string
	if n.Kind != yaml.SequenceNode || n.Decode(&texts) != nil {
		r.fault(n, `"websites" is a list of names`, `write it like ["@", www, shop]; [] where the zone has no website`)
		return nil
	}
	list, err := ParseWebsites(texts, zone)
	if err != nil {
		r.fault(n, err.Error(), `write names below the zone, and "@" for its apex`)
	}
	return list
}

// What becomes of changes that are made at the provider.
const (
	DriftManual = "manual"
	DriftRevert = "revert"
	DriftAdopt  = "adopt"
)

// SetAttributes are the named attributes that a set shall have at providers that know them.
type SetAttributes struct {
	Key    record.Key        `json:"key"`
	Values map[string]string `json:"values"`
}

// readAttributes takes "www A": {relay: "on"}.
func (r *reader) readAttributes(n *yaml.Node, zone dnsname.Name) (list []SetAttributes) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"attributes" holds one entry for each record set`, `write it like "www A": {relay: "on"}`)
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		set, err := ParseKey(key.Value, zone)
		if err != nil || value.Kind != yaml.MappingNode {
			r.fault(key, fmt.Sprintf("%q is no record set with attributes", key.Value), `write it like "www A": {relay: "on"}`)
			continue
		}
		a := SetAttributes{set, map[string]string{}}
		for j := 0; j+1 < len(value.Content); j += 2 {
			a.Values[value.Content[j].Value] = value.Content[j+1].Value
		}
		list = append(list, a)
	}
	slices.SortFunc(list, func(a, b SetAttributes) int { return a.Key.Compare(b.Key) })
	return list
}

// ParseKey parses a name below a zone and a type, such as "www A" or "@ TXT".
func ParseKey(text string, zone dnsname.Name) (key record.Key, err error) {
	label, word, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok {
		return key, fmt.Errorf("%q is no name with a type", text)
	}
	key.Name = zone
	if label != "@" {
		if key.Name, err = dnsname.ParseRelative(label, zone); err != nil {
			return key, err
		}
	}
	key.Type, err = record.ParseType(strings.TrimSpace(word))
	return key, err
}

// readSOA takes {rname: hostmaster@tides.example, minimum: 5m}.
func (r *reader) readSOA(n *yaml.Node) (p soa.Parameters) {
	const remedy = `write it like {rname: hostmaster@tides.example, minimum: 5m}`
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"soa" holds fields of the SOA record`, remedy)
		return p
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if value.Kind != yaml.ScalarNode || value.Value == "" {
			r.fault(value, fmt.Sprintf("%q has no value", key.Value), remedy)
		} else if err := p.Set(key.Value, value.Value); err != nil {
			r.fault(key, err.Error(), "")
		}
	}
	if problem := p.Problem(); problem != "" {
		r.fault(n, problem, "")
	}
	return p
}

// readDrift takes one of the three words.
func (r *reader) readDrift(n *yaml.Node) string {
	words := []string{DriftManual, DriftRevert, DriftAdopt}
	if now := formerDrift[n.Value]; now != "" {
		r.fault(n, fmt.Sprintf("%q is called %q now", n.Value, now), fmt.Sprintf("write %q", now))
	} else if !slices.Contains(words, n.Value) {
		r.fault(n, fmt.Sprintf("%q is nothing that can become of changes made elsewhere", n.Value), "write one of: "+strings.Join(words, ", "))
	}
	return n.Value
}

// write adds what is said to a definition.
func (c Settings) write(b *strings.Builder, zone dnsname.Name) {
	if len(c.Attributes) > 0 {
		b.WriteString("    attributes:\n")
		for _, a := range c.Attributes {
			label := "@"
			if a.Key.Name != zone {
				label = a.Key.Name.Relative(zone)
			}
			var values []string
			for _, name := range slices.Sorted(maps.Keys(a.Values)) {
				values = append(values, fmt.Sprintf("%q: %q", name, a.Values[name]))
			}
			fmt.Fprintf(b, "      %q: {%s}\n", label+" "+a.Key.Type.String(), strings.Join(values, ", "))
		}
	}
	writePatterns(b, "protect", c.Protect)
	if c.Drift != "" && c.Drift != DriftManual {
		fmt.Fprintf(b, "    drift: %s\n", c.Drift)
	}
	if c.KeepExisting {
		b.WriteString("    keep_existing: true\n")
	}
	if given := c.SOA.Given(); len(given) > 0 {
		for i, field := range given {
			given[i] = fmt.Sprintf("%s: %q", field, c.SOA.Get(field))
		}
		fmt.Fprintf(b, "    soa: {%s}\n", strings.Join(given, ", "))
	}
	if c.Websites != nil {
		labels := WebsiteLabels(c.Websites, zone)
		for i, label := range labels {
			labels[i] = fmt.Sprintf("%q", label)
		}
		fmt.Fprintf(b, "    websites: [%s]\n", strings.Join(labels, ", "))
	}
}

func writePatterns(b *strings.Builder, key string, list []record.Pattern) {
	if len(list) == 0 {
		return
	}
	texts := make([]string, len(list))
	for i, p := range list {
		texts[i] = fmt.Sprintf("%q", p)
	}
	fmt.Fprintf(b, "    %s: [%s]\n", key, strings.Join(texts, ", "))
}
