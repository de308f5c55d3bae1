package zonefile

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Write prints contents as a master file: $ORIGIN and the commonest TTL as $TTL on top, then one record a line in
// aligned columns, the SOA first, names relative to origin. Equal contents give equal files.
func Write(w io.Writer, origin dnsname.Name, c record.Contents) error {
	out := bufio.NewWriter(w)
	ttl := CommonTTL(c)
	fmt.Fprintf(out, "$ORIGIN %s\n$TTL %d\n", origin, ttl)
	writeLines(out, origin, c, ttl)
	return out.Flush()
}

// Lines prints the records alone, as they stand below a TTL that is stated elsewhere.
func Lines(origin dnsname.Name, c record.Contents, ttl uint32) string {
	var b strings.Builder
	out := bufio.NewWriter(&b)
	writeLines(out, origin, c, ttl)
	_ = out.Flush() // a strings.Builder never fails
	return b.String()
}

func writeLines(out *bufio.Writer, origin dnsname.Name, c record.Contents, ttl uint32) {
	nameWidth, ttlWidth, typeWidth := 1, 0, 1
	for _, r := range c.Records() {
		nameWidth = max(nameWidth, min(len(r.Name.Relative(origin)), 40))
		typeWidth = max(typeWidth, len(r.Type.String()))
		if r.TTL != ttl {
			ttlWidth = max(ttlWidth, len(fmt.Sprint(r.TTL)))
		}
	}
	line := func(r record.Record) {
		shown := ""
		if r.TTL != ttl {
			shown = fmt.Sprint(r.TTL)
		}
		fmt.Fprintf(out, "%-*s ", nameWidth, r.Name.Relative(origin))
		if ttlWidth > 0 {
			fmt.Fprintf(out, "%-*s ", ttlWidth, shown)
		}
		fmt.Fprintf(out, "%-*s %s\n", typeWidth, r.Type, r.Data)
	}
	for _, r := range c.Get(record.Key{Name: origin, Type: record.SOA}).Records() {
		line(r)
	}
	for _, r := range c.Records() {
		if r.Type != record.SOA || r.Name != origin {
			line(r)
		}
	}
}

// Text is Write into a string.
func Text(origin dnsname.Name, c record.Contents) string {
	var b strings.Builder
	_ = Write(&b, origin, c) // a strings.Builder never fails
	return b.String()
}

// CommonTTL returns the TTL that most records have, the least of these where several do.
func CommonTTL(c record.Contents) uint32 {
	count := map[uint32]int{}
	for _, r := range c.Records() {
		count[r.TTL]++
	}
	ttls := make([]uint32, 0, len(count))
	for ttl := range count {
		ttls = append(ttls, ttl)
	}
	if len(ttls) == 0 {
		return 3600
	}
	return slices.MinFunc(ttls, func(a, b uint32) int {
		return cmp.Or(-cmp.Compare(count[a], count[b]), cmp.Compare(a, b))
	})
}
