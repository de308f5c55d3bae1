package zonefile

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// drawn draws a record of any known type.
func drawn(t *rapid.T, origin dnsname.Name) record.Record {
	form := rapid.SampledFrom(record.Forms()).Draw(t, "form")
	values := map[string]string{}
	for _, f := range form.Fields {
		values[f.Name] = f.Example
		switch f.Kind {
		case record.Number:
			values[f.Name] = rapid.StringMatching("[1-9]?[0-9]").Draw(t, f.Name)
		case record.Host:
			values[f.Name] = rapid.StringMatching(`[a-z][a-z0-9-]{0,20}[a-z0-9](\.[a-z]{1,10}){0,3}\.?`).Draw(t, f.Name)
		case record.Text, record.Texts:
			values[f.Name] = rapid.StringN(0, 100, 255).Draw(t, f.Name)
		}
	}
	if form.Type == record.CAA {
		values["tag"] = "issue"
	}
	data, err := form.Join(values, origin)
	if err != nil {
		values = map[string]string{}
		for _, f := range form.Fields {
			values[f.Name] = f.Example
		}
		if data, err = form.Join(values, origin); err != nil {
			t.Fatal(err)
		}
	}
	name, err := dnsname.ParseRelative(rapid.StringMatching(`@|[a-z0-9_*-]{1,12}(\.[a-z0-9-]{1,8}){0,2}`).Draw(t, "name"), origin)
	if err != nil {
		name = origin
	}
	return record.Record{Name: name, TTL: rapid.Uint32Range(0, 1<<31-1).Draw(t, "ttl"), Type: form.Type, Data: data}
}

// Of records of every type: what is written is read as the same, the canonical form is a fixed point, and neither the order of lines nor
// the case of names and types matters.
func TestLawsOfEveryType(t *testing.T) {
	origin := dnsname.MustParse("saltmarsh-ferries.example")
	canonical := func(c record.Contents) string {
		var b strings.Builder
		require.NoError(t, WriteCanonical(&b, c))
		return b.String()
	}
	read := func(rt *rapid.T, text string) record.Contents {
		z, faults := Read(text, Options{Origin: origin})
		if len(faults) > 0 {
			rt.Fatalf("%s\n%v", text, faults)
		}
		return z.Contents()
	}
	rapid.Check(t, func(rt *rapid.T) {
		var records []record.Record
		for range rapid.IntRange(0, 12).Draw(rt, "records") {
			records = append(records, drawn(rt, origin))
		}
		c := record.NewContents(records)
		once := canonical(c)
		require.Equal(rt, once, canonical(read(rt, once)), "a fixed point")
		require.True(rt, read(rt, Text(origin, c)).Equal(c), "the aligned form")

		lines := strings.SplitAfter(strings.TrimSuffix(once, "\n"), "\n")
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "order"), 0))
		rng.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		for i, line := range lines {
			fields := strings.SplitN(strings.TrimSuffix(line, "\n"), " ", 5) // owner TTL class type data
			for n := range min(len(fields), 4) {
				if rng.IntN(2) == 0 {
					fields[n] = strings.ToUpper(fields[n])
				}
			}
			lines[i] = strings.Join(fields, " ")
		}
		require.Equal(rt, once, canonical(read(rt, strings.Join(lines, "\n")+"\n")), "order and case")
	})
}
