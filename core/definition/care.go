package definition

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Care is what a definition says about how a zone is looked after, besides what it contains.
type Care struct {
	Extras   []Attributes     // of sets, by key
	Protect  []record.Pattern // sets whose going needs a yes of its own
	Drift    string           // what becomes of changes made at the provider: DriftAsk, DriftPutBack or DriftAdopt
	OnlyOurs bool             // sets that were there before us are left, whatever is wanted
	Sites    []dnsname.Name   // the names that carry a site; nil for those that usually do, none where it is empty
}

// MostSites bounds how many names of one zone are looked at as sites.
const MostSites = 8

// ParseSites takes names below a zone, and @ for its apex.
func ParseSites(texts []string, zone dnsname.Name) ([]dnsname.Name, error) {
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
	if len(list) > MostSites {
		return nil, fmt.Errorf("at most %d names of a zone are looked at as sites", MostSites)
	}
	return list, nil
}

// SiteLabels writes names as ParseSites takes them.
func SiteLabels(sites []dnsname.Name, zone dnsname.Name) []string {
	labels := make([]string, len(sites))
	for i, name := range sites {
		if labels[i] = "@"; name != zone {
			labels[i] = name.Relative(zone)
		}
	}
	return labels
}

// readSites takes a list of names.
func (r *reader) readSites(n *yaml.Node, zone dnsname.Name) []dnsname.Name {
	var texts []string
	if n.Kind != yaml.SequenceNode || n.Decode(&texts) != nil {
		r.fault(n, `"sites" is a list of names`, `write it like ["@", www, shop]; [] where the zone carries no site`)
		return nil
	}
	list, err := ParseSites(texts, zone)
	if err != nil {
		r.fault(n, err.Error(), `write names below the zone, and "@" for its apex`)
	}
	return list
}

// What becomes of changes that are made at the provider.
const (
	DriftAsk     = "ask"
	DriftPutBack = "put back"
	DriftAdopt   = "adopt"
)

// Attributes are the named attributes that a set shall have at providers that know them.
type Attributes struct {
	Key    record.Key        `json:"key"`
	Values map[string]string `json:"values"`
}

// readExtras takes "www A": {relay: "on"}.
func (r *reader) readExtras(n *yaml.Node, zone dnsname.Name) (list []Attributes) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"extras" holds one entry for each record set`, `write it like "www A": {relay: "on"}`)
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		set, err := ParseKey(key.Value, zone)
		if err != nil || value.Kind != yaml.MappingNode {
			r.fault(key, fmt.Sprintf("%q is no record set with attributes", key.Value), `write it like "www A": {relay: "on"}`)
			continue
		}
		a := Attributes{set, map[string]string{}}
		for j := 0; j+1 < len(value.Content); j += 2 {
			a.Values[value.Content[j].Value] = value.Content[j+1].Value
		}
		list = append(list, a)
	}
	slices.SortFunc(list, func(a, b Attributes) int { return a.Key.Compare(b.Key) })
	return list
}

// ParseKey takes a name below a zone and a type, such as "www A" or "@ TXT".
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

// readDrift takes one of the three words.
func (r *reader) readDrift(n *yaml.Node) string {
	words := []string{DriftAsk, DriftPutBack, DriftAdopt}
	if !slices.Contains(words, n.Value) {
		r.fault(n, fmt.Sprintf("%q is nothing that can become of changes made elsewhere", n.Value), "write one of: "+strings.Join(words, ", "))
	}
	return n.Value
}

// write adds what is said to a definition.
func (c Care) write(b *strings.Builder, zone dnsname.Name) {
	if len(c.Extras) > 0 {
		b.WriteString("    extras:\n")
		for _, a := range c.Extras {
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
	if c.Drift != "" && c.Drift != DriftAsk {
		fmt.Fprintf(b, "    drift: %s\n", c.Drift)
	}
	if c.OnlyOurs {
		b.WriteString("    only_ours: true\n")
	}
	if c.Sites != nil {
		labels := SiteLabels(c.Sites, zone)
		for i, label := range labels {
			labels[i] = fmt.Sprintf("%q", label)
		}
		fmt.Fprintf(b, "    sites: [%s]\n", strings.Join(labels, ", "))
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
