package store

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// What chunks hold is exactly what was put into them, in the same order, whatever the records.
func TestChunksHoldContents(t *testing.T) {
	apex := dnsname.MustParse("saltmarsh-ferries.example")
	rapid.Check(t, func(t *rapid.T) {
		var records []record.Record
		for range rapid.IntRange(0, 400).Draw(t, "records") {
			name, err := apex.Child(fmt.Sprintf("h%d", rapid.IntRange(0, 300).Draw(t, "host")))
			if err != nil {
				t.Fatal(err)
			}
			text := rapid.SampledFrom([]string{`"a  b"`, `"\000\255"`, `"x;y" "\"q\""`, `""`}).Draw(t, "data")
			data, err := record.ParseData(record.TXT, text, apex)
			if err != nil {
				t.Fatal(err)
			}
			records = append(records, record.Record{Name: name, TTL: rapid.Uint32Range(0, 9).Draw(t, "ttl"), Type: record.TXT, Data: data})
		}
		c := record.NewContents(records)
		var back []record.Record
		for _, chunk := range chunksOf(c.Records()) {
			part, err := parseChunk(chunk.body)
			if err != nil {
				t.Fatal(err)
			}
			if len(part) > chunkMost+4*4 {
				t.Fatalf("a chunk of %d records", len(part))
			}
			back = append(back, part...)
		}
		if !record.NewContents(back).Equal(c) {
			t.Fatal("the chunks hold something else")
		}
	})
}

// Contents are cut into the same chunks whether all of it is cut or only what is around the difference to others.
func TestChunksAreTheSameAroundADifference(t *testing.T) {
	apex := dnsname.MustParse("saltmarsh-ferries.example")
	set := func(i int) record.Set {
		name, err := apex.Child(fmt.Sprintf("h%d", i))
		if err != nil {
			t.Fatal(err)
		}
		data := []record.Data{record.Data(fmt.Sprintf(`"%d"`, i))}
		if i%1700 == 3 { // more than a chunk holds
			for j := range chunkMost + 20 {
				data = append(data, record.Data(fmt.Sprintf(`"%d"`, j)))
			}
		}
		return record.NewSet(name, record.TXT, 300, data...)
	}
	var sets []record.Set
	for i := range 4000 {
		sets = append(sets, set(2*i))
	}
	full := record.ContentsOf(sets...)
	rapid.Check(t, func(t *rapid.T) {
		from := rapid.IntRange(0, full.Len()).Draw(t, "from")
		base := record.NewContents(append([]record.Record{}, full.Records()[from:rapid.IntRange(from, full.Len()).Draw(t, "to")]...))
		before, _ := chunked(base, nil)
		at := rapid.IntRange(0, 7990).Draw(t, "at")
		after := base
		for i := range rapid.IntRange(0, 6).Draw(t, "edits") {
			one := set(at + i*rapid.IntRange(0, 3).Draw(t, "step"))
			if rapid.Bool().Draw(t, "goes") {
				after = after.Without(one.Key())
			} else {
				one.TTL = rapid.Uint32Range(300, 301).Draw(t, "ttl")
				after = after.With(one)
			}
		}
		want, _ := chunked(after, nil)
		got, fresh := chunked(after, before)
		if got.digest != want.digest || !slices.Equal(got.ends, want.ends) {
			t.Fatalf("cut at %v, not at %v", got.ends, want.ends)
		}
		known := map[string]bool{}
		for _, digest := range before.chunks {
			known[string(digest)] = true
		}
		for i, digest := range got.chunks {
			if _, there := fresh[i]; !there && !known[string(digest)] {
				t.Fatalf("chunk %d is stored nowhere", i)
			}
		}
	})
}

func TestDamagedChunkIsAnError(t *testing.T) {
	for _, body := range []string{"a. 1 A", "a..b 1 A x", "a. x A x", "a. 1 NOPE x"} {
		if _, err := parseChunk(body + "\n"); err == nil {
			t.Errorf("%q was taken", body)
		}
	}
	if got := cut(strings.Repeat("ü", 4), 5); got != "üü" {
		t.Errorf("cut in the middle of a character: %q", got)
	}
}
