package definition

import (
	"slices"

	"beacon/core/dnsname"
	"beacon/core/zonefile"
)

// Pieces reads definition files that are too large to be held together, each of them twice or more: Learn is called with every file first,
// and keeps its kits and the names of its zones; Zones then returns the zones of one file, one at a time. It is not safe for concurrent use.
type Pieces struct{ r *reader }

// NewPieces returns Pieces that know no file.
func NewPieces() *Pieces {
	return &Pieces{&reader{kits: map[string]*kitSource{}, zones: map[dnsname.Name]*zoneSource{}}}
}

// Learn reads a file, and keeps what other files need of it.
func (p *Pieces) Learn(f File) {
	first := len(p.r.zoneOrder)
	p.r.readFile(f)
	p.r.file.lines = nil
	for _, name := range p.r.zoneOrder[first:] {
		z := p.r.zones[name]
		p.r.zones[name] = &zoneSource{Zone: Zone{Name: name, File: z.File, Line: z.Line}}
	}
	p.r.again = nil // Zones comes to them
}

// Kits checks the kits of all files, and returns them. It is called after the last Learn and before the first Zones.
func (p *Pieces) Kits() []Kit {
	p.r.checkKits()
	list := make([]Kit, 0, len(p.r.kitOrder))
	for _, name := range p.r.kitOrder {
		list = append(list, p.r.kits[name].Kit)
	}
	return list
}

// Zones calls do for each zone of a file that was learned, until it returns an error. With any fault, the zones are not to be used.
func (p *Pieces) Zones(f File, do func(Zone) error) error {
	r := &reader{kits: p.r.kits, kitOrder: p.r.kitOrder, zones: map[dnsname.Name]*zoneSource{}, learned: true}
	r.readFile(f)
	r.faults = nil // Learn found them
	for _, z := range slices.Concat(r.inOrder(), r.again) {
		made := r.makeZone(z)
		z.block = block{}
		if err := do(made); err != nil {
			return err
		}
	}
	p.r.faults = append(p.r.faults, r.faults...)
	return nil
}

// Faults returns what is wrong with the files, as far as they were read.
func (p *Pieces) Faults() []zonefile.Fault { return p.r.sorted() }
