package store

import (
	"fmt"
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
		for _, body := range chunksOf(c) {
			part, err := parseChunk(body)
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
