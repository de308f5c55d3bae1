package definition

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v3"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/zonefile"
)

// zoneSource is a zone with the block that its records stand in.
type zoneSource struct {
	Zone
	block block
	file  *source
}

func (r *reader) readZones(n *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"zones" holds one entry for each zone`, `write "zones:" and below it, indented, "saltmarsh-ferries.example:"`)
		return
	}
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		name, err := dnsname.Parse(key.Value)
		if err != nil {
			r.fault(key, err.Error(), "")
			continue
		}
		if problem := name.ZoneProblem(); problem != "" {
			r.fault(key, fmt.Sprintf("%q is not the name of a zone: %s", key.Value, problem), "")
			continue
		}
		z := r.readZone(name, key, value)
		if first, twice := r.zones[name]; twice {
			r.fault(key, twiceMessage("zone", name.String(), first.File, first.Line), "put everything about a zone into one place")
			r.again = append(r.again, z) // for the faults in it
			continue
		}
		r.zones[name] = z
		r.zoneOrder = append(r.zoneOrder, name)
	}
}

func (r *reader) readZone(name dnsname.Name, key, value *yaml.Node) *zoneSource {
	z := &zoneSource{Zone: Zone{Name: name, File: r.file.name, Line: key.Line, TTL: defaultTTL}, file: r.file}
	said := false
	r.keys(value, "a zone", fields{
		"description": func(_, v *yaml.Node) { z.Description = r.text(v, "description") },
		"registrar":   func(_, v *yaml.Node) { z.Registrar = r.account(v) },
		"nameservers": func(_, v *yaml.Node) { z.Nameservers = r.readNameservers(v) },
		"delegate_to": func(_, v *yaml.Node) { z.DelegateTo = r.account(v) },
		"providers":   func(_, v *yaml.Node) { z.Providers = r.accounts(v) },
		"ttl":         func(_, v *yaml.Node) { z.TTL = r.ttl(v, defaultTTL) },
		"kits":        func(_, v *yaml.Node) { z.Uses, said = r.readUses(v), true },
		"records": func(_, v *yaml.Node) {
			said = true
			z.block, _ = r.block(v)
		},
		"ignore":        func(_, v *yaml.Node) { z.Ignore = r.readPatterns(v, "ignore", name) },
		"protect":       func(_, v *yaml.Node) { z.Protect = r.readPatterns(v, "protect", name) },
		"attributes":    func(_, v *yaml.Node) { z.Attributes = r.readAttributes(v, name) },
		"drift":         func(_, v *yaml.Node) { z.Drift = r.readDrift(v) },
		"keep_existing": func(_, v *yaml.Node) { z.KeepExisting = r.yes(v, "keep_existing") },
		"soa":           func(_, v *yaml.Node) { z.SOA = r.readSOA(v) },
		"websites":      func(_, v *yaml.Node) { z.Websites = r.readWebsites(v, name) },
	})
	switch {
	case z.DelegateTo != "" && len(z.Nameservers) > 0:
		r.fault(key, fmt.Sprintf("zone %s has both \"nameservers\" and \"delegate_to\"", name.Unicode()), "use one of them: a list, or the account whose nameservers are desired")
	case z.DelegateTo != "" && !slices.Contains(z.Providers, z.DelegateTo):
		r.fault(key, fmt.Sprintf("zone %s is delegated to the account %q, which does not serve it", name.Unicode(), z.DelegateTo), "add the account to \"providers\", or correct \"delegate_to\"")
	}
	if value.Kind == yaml.MappingNode && !said {
		r.fault(key, fmt.Sprintf("zone %s has no records", name.Unicode()), `add "records: |" and the records below it, indented`)
	}
	return z
}

// yes takes true or false.
func (r *reader) yes(n *yaml.Node, key string) (value bool) {
	if n.Decode(&value) != nil {
		r.fault(n, fmt.Sprintf("%q is true or false", key), "")
	}
	return value
}

// readNameservers reads the nameservers that a domain should be delegated to.
func (r *reader) readNameservers(n *yaml.Node) (list []dnsname.Name) {
	if n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
		r.fault(n, `"nameservers" is a list of host names`, `write it like [ns1.provider.example, ns2.provider.example]`)
		return nil
	}
	for _, item := range n.Content {
		name, err := dnsname.Parse(item.Value)
		switch {
		case err != nil:
			r.fault(item, err.Error(), "")
		case slices.Contains(list, name):
			r.fault(item, fmt.Sprintf("%s is in the list twice", dnsname.Short(name)), "remove one of them")
		default:
			list = append(list, name)
		}
	}
	return dnsname.SortSet(list)
}

func (r *reader) readPatterns(n *yaml.Node, key string, zone dnsname.Name) (list []record.Pattern) {
	if n.Kind != yaml.SequenceNode {
		r.fault(n, fmt.Sprintf("%q is a list of patterns", key), `write it like ["_acme-challenge.** TXT"]`)
		return nil
	}
	for _, item := range n.Content {
		p, err := record.ParsePattern(item.Value, zone)
		if err != nil {
			r.fault(item, err.Error(), "")
			continue
		}
		list = append(list, p)
	}
	return list
}

// makeZone puts a zone together of its own records and those of its kits, and judges it.
func (r *reader) makeZone(z *zoneSource) Zone {
	var all []made
	r.in(z.file, func() {
		all = r.expand(z.block, z.file.values, z.Name, z.TTL, Origin{File: z.File})
		for i, u := range z.Uses {
			z.Uses[i].With = map[string]string{} // as it stands without the values of this file
			for name, text := range u.With {
				z.Uses[i].With[name] = guarded(r.fill(text, z.file.values, u.at))
			}
			all = append(all, r.expandUse(u, z.file.values, z.Name, z.TTL)...)
		}
	})
	for _, m := range all {
		z.Written = append(z.Written, m.record)
		z.Origins = append(z.Origins, m.from)
		if record.AnyMatches(z.Ignore, m.record.Key()) {
			r.faults = append(r.faults, m.fault(fmt.Sprintf("%s matches \"ignore\", and is defined here", m.record.Key()), "remove the record, or the pattern"))
		}
	}
	z.Contents = record.NewContents(append([]record.Record(nil), z.Written...))
	for _, f := range rules.Check(rules.Zone{Name: z.Name, Contents: z.Contents}) {
		if f.Severity != finding.Error {
			continue
		}
		told := zonefile.Fault{File: z.File, Line: z.Line, Column: 3, Message: f.Subject + ": " + f.Message, Remedy: f.Remedy}
		for _, m := range all {
			if m.record.Key() == f.Key {
				told = m.fault(told.Message, told.Remedy)
				break
			}
		}
		r.faults = append(r.faults, told)
	}
	return z.Zone
}
