package definition

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// Write prints zones, and the kits that they use, as a definition file that Read understands.
func Write(zones []Zone, kits []Kit) string {
	var b strings.Builder
	if used := usedKits(zones, kits); len(used) > 0 {
		b.WriteString("kits:\n")
		for _, k := range used {
			writeKit(&b, k)
		}
	}
	b.WriteString("zones:\n")
	for _, z := range zones {
		writeZone(&b, z)
	}
	return b.String()
}

// usedKits returns the kits that zones use, and those that these use, in the order of kits.
func usedKits(zones []Zone, kits []Kit) (list []Kit) {
	wanted := map[string]bool{}
	var want func(uses []Use)
	want = func(uses []Use) {
		for _, u := range uses {
			i := slices.IndexFunc(kits, func(k Kit) bool { return k.Name == u.Kit })
			if i >= 0 && !wanted[u.Kit] {
				wanted[u.Kit] = true
				want(kits[i].Uses)
			}
		}
	}
	for _, z := range zones {
		want(z.Uses)
	}
	for _, k := range kits {
		if wanted[k.Name] {
			list = append(list, k)
		}
	}
	return list
}

func writeZone(b *strings.Builder, z Zone) {
	name := strings.TrimSuffix(z.Name.String(), ".")
	if z.Name.IsRoot() {
		name = "."
	}
	fmt.Fprintf(b, "  %s:\n", scalar(name))
	if z.Description != "" {
		fmt.Fprintf(b, "    description: %q\n", z.Description)
	}
	if len(z.Providers) > 0 {
		fmt.Fprintf(b, "    providers: [%s]\n", strings.Join(z.Providers, ", "))
	}
	if z.Registrar != "" {
		fmt.Fprintf(b, "    registrar: %s\n", z.Registrar)
	}
	if z.DelegateTo != "" {
		fmt.Fprintf(b, "    delegate_to: %s\n", z.DelegateTo)
	}
	if len(z.Nameservers) > 0 {
		texts := make([]string, len(z.Nameservers))
		for i, n := range z.Nameservers {
			texts[i] = dnsname.Short(n)
		}
		fmt.Fprintf(b, "    nameservers: [%s]\n", strings.Join(texts, ", "))
	}
	ttl := z.TTL
	if ttl == 0 {
		ttl = zonefile.CommonTTL(z.Contents)
	}
	fmt.Fprintf(b, "    ttl: %d\n", ttl)
	if len(z.Uses) > 0 {
		fmt.Fprintf(b, "    kits: %s\n", usesText(z.Uses))
	}
	if own := z.own(); own.Len() > 0 || len(z.Uses) == 0 {
		fmt.Fprintf(b, "    records: |\n%s", indent(guarded(zonefile.Lines(z.Name, own, ttl)), "      "))
	}
	writePatterns(b, "ignore", z.Ignore)
	z.Settings.write(b, z.Name)
}

// own returns the records that no kit makes.
func (z Zone) own() record.Contents {
	if len(z.Origins) == 0 || len(z.Uses) == 0 {
		return z.Contents
	}
	fromKit := map[record.Record]bool{}
	for i, o := range z.Origins {
		if o.Kit != "" {
			fromKit[z.Written[i]] = true
		}
	}
	var own []record.Record
	for _, r := range z.Contents.Records() {
		if !fromKit[r] {
			own = append(own, r)
		}
	}
	return record.NewContents(own)
}

// guarded writes "${" so that nothing is put in its place.
func guarded(text string) string { return strings.ReplaceAll(text, "${", "$${") }

func usesText(uses []Use) string {
	texts := make([]string, len(uses))
	for i, u := range uses {
		texts[i] = u.Kit
		if len(u.With) > 0 {
			var with []string
			for _, name := range slices.Sorted(maps.Keys(u.With)) {
				with = append(with, name+": "+scalar(u.With[name]))
			}
			texts[i] = fmt.Sprintf("{%s: {%s}}", u.Kit, strings.Join(with, ", "))
		}
	}
	return "[" + strings.Join(texts, ", ") + "]"
}

var plainScalar = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9./_-]*$`)

// scalar writes a value so that YAML reads the same text.
func scalar(value string) string {
	if plainScalar.MatchString(value) {
		return value
	}
	return "'" + strings.ReplaceAll(value, "'", "''") + "'"
}

func writeKit(b *strings.Builder, k Kit) {
	fmt.Fprintf(b, "  %s:\n", k.Name)
	if k.Description != "" {
		fmt.Fprintf(b, "    description: %s\n", scalar(k.Description))
	}
	if len(k.Parameters) > 0 {
		b.WriteString("    parameters:\n")
		for _, n := range k.Parameters {
			fmt.Fprintf(b, "      %s: {%s}\n", n.Name, needText(n))
		}
	}
	if len(k.Uses) > 0 {
		fmt.Fprintf(b, "    kits: %s\n", usesText(k.Uses))
	}
	if k.TTL > 0 {
		fmt.Fprintf(b, "    ttl: %d\n", k.TTL)
	}
	if k.Records != "" {
		fmt.Fprintf(b, "    records: |\n%s", indent(k.Records, "      "))
	}
}

func needText(n Parameter) string {
	parts := []string{"type: " + string(n.Type)}
	if n.Description != "" {
		parts = append(parts, "description: "+scalar(n.Description))
	}
	if len(n.Of) > 0 {
		of := make([]string, len(n.Of))
		for i, v := range n.Of {
			of[i] = scalar(v)
		}
		parts = append(parts, "of: ["+strings.Join(of, ", ")+"]")
	}
	if n.Min > 0 {
		parts = append(parts, fmt.Sprintf("min: %d", n.Min))
	}
	if n.Max > 0 {
		parts = append(parts, fmt.Sprintf("max: %d", n.Max))
	}
	if n.Default != nil {
		parts = append(parts, "default: "+scalar(*n.Default))
	}
	return strings.Join(parts, ", ")
}
