package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/dnsname"
	"beacon/core/zonefile"
)

// inPieces reads files as Pieces do.
func inPieces(files []File) (d Definition, faults []zonefile.Fault) {
	p := NewPieces()
	for _, f := range files {
		p.Learn(f)
	}
	d.Kits = p.Kits()
	for _, f := range files {
		_ = p.Zones(f, func(z Zone) error { d.Zones = append(d.Zones, z); return nil })
	}
	return d, p.Faults()
}

// agree holds what Pieces read of files against what Read does.
func agree(t *testing.T, files []File) {
	t.Helper()
	whole, faults := Read(files)
	d, found := inPieces(files)
	assert.Equal(t, faults, found)
	if len(faults) > 0 {
		return
	}
	assert.Len(t, d.Kits, len(whole.Kits))
	if !assert.Len(t, d.Zones, len(whole.Zones)) {
		return
	}
	for i, z := range whole.Zones {
		got := d.Zones[i]
		assert.True(t, z.Contents.Equal(got.Contents))
		z.Contents = got.Contents // which may be the same and not alike in memory
		assert.Equal(t, z, got)
	}
}

// Files that are read in pieces say what they say as a whole: kits and values of other files, and every fault, once.
func TestPiecesSayWhatTheWholeSays(t *testing.T) {
	agree(t, files("a", good))
	agree(t, files("a", kitted))
	agree(t, files("zones", "zones:\n  b.example:\n    kits: [late]\n", "kits", "kits:\n  late:\n    records: |\n      @ A 192.0.2.1\n"))
	agree(t, files("zones", "zones:\n  b.example:\n    kits: [lat]\n", "kits", "kits:\n  late:\n    records: |\n      @ A 192.0.2.300\n"))
	agree(t, files("b", "zones:\n  a.example:\n    ttl: x\n    records: |\n      w A 1\n      v A 2\n", "a", "zones:\n  a.example:\n    records: |\n      w A x\n"))
	agree(t, files("b", "zones:\n  a.example:\n    records: |\n      w CNAME x\n      w A 192.0.2.1\n  a.example:\n    records: |\n      w A x\n"))
	agree(t, files("a", "", "b", "zones:\n  a: ["))
}

// Nothing of a file's zones is held once it was learned.
func TestPiecesHoldNoZone(t *testing.T) {
	p := NewPieces()
	p.Learn(File{Name: "a", Text: good})
	p.Kits()
	for _, z := range p.r.zones {
		assert.Empty(t, z.block.text)
		assert.Nil(t, z.file)
	}
	assert.Nil(t, p.r.file.lines)
	names := []dnsname.Name{}
	assert.NoError(t, p.Zones(File{Name: "a", Text: good}, func(z Zone) error { names = append(names, z.Name); return nil }))
	assert.Equal(t, p.r.zoneOrder, names)
}
