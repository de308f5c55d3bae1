package apply

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/zonefile"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// take is one acceptance of the files of a folder. They may be too large to be held together: each is read three times, to learn its kits,
// to judge its zones, and to accept them.
type take struct {
	files    func(do func(definition.File) error) error
	pieces   *definition.Pieces
	kits     []definition.Kit
	digests  map[string][sha256.Size]byte // of each file, when it was learned
	named    []dnsname.Name               // the zones that the files name
	detached map[dnsname.Name]bool        // of those, the ones that a user detached
}

// errMoved is returned when files change while they are accepted. What was accepted by then stays; the next turn goes on with the rest.
var errMoved = errors.New("the files changed while they were read")

// learn reads all files for the first time, and returns a digest of them.
func (t *take) learn() (string, error) {
	all := sha256.New()
	err := t.files(func(f definition.File) error {
		t.digests[f.Name] = digest(f)
		_, _ = fmt.Fprintf(all, "%q %x\n", f.Name, t.digests[f.Name])
		t.pieces.Learn(f)
		return nil
	})
	t.kits = t.pieces.Kits()
	return hex.EncodeToString(all.Sum(nil)), err
}

// each reads all files again, and calls do for each zone in them.
func (t *take) each(do func(definition.Zone) error) error {
	return t.files(func(f definition.File) error {
		if t.digests[f.Name] != digest(f) {
			return errMoved
		}
		return t.pieces.Zones(f, do)
	})
}

func digest(f definition.File) (sum [sha256.Size]byte) {
	h := sha256.New()
	_, _ = fmt.Fprintf(h, "%q %q", f.Text, f.Environment)
	h.Sum(sum[:0])
	return sum
}

// judge refuses files that cannot be accepted wholly.
func (s *Applier) judge(ctx context.Context, t *take) error {
	var faults []zonefile.Fault
	var inTheWay error
	err := t.each(func(d definition.Zone) error {
		t.named = append(t.named, d.Name)
		err := s.logbook.Look(ctx, func(tx *store.Tx) error {
			faults = append(faults, s.unknownAccounts(tx, []definition.Zone{d})...)
			z, err := zones.ByName(tx, d.Name)
			switch {
			case store.IsMissing(err):
				return nil
			case err != nil:
				return err
			case z.Detached:
				t.detached[d.Name] = true
				return nil
			}
			_, err = fits(tx, z, d, true)
			return err
		})
		var p *wire.Problem
		if errors.As(err, &p) && inTheWay == nil {
			inTheWay, err = p, nil
		}
		return err
	})
	if faults = append(faults, t.pieces.Faults()...); err == nil && len(faults) > 0 {
		return refusal(faults)
	}
	return errors.Join(err, inTheWay)
}

// mostAtOnce bounds what is accepted in one transaction: zones, and the records of them after which no other zone is taken in.
const (
	mostZonesAtOnce   = 100
	mostRecordsAtOnce = 10_000
)

// accept accepts the zones of the files, some in a transaction. When it is broken off, what it did not come to is accepted by the next.
func (s *Applier) accept(ctx context.Context, by access.Caller, t *take) error {
	var batch []definition.Zone
	records := 0
	flush := func(kits []definition.Kit) error {
		err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
			for _, z := range batch {
				if _, err := s.applyZone(by, tx, z, wire.ApplyRequest{Manage: true, Reason: "the files changed"}, s.putOut); err != nil {
					return err
				}
			}
			return zones.KeepKits(tx, kits)
		})
		batch, records = nil, 0
		return err
	}
	err := t.each(func(d definition.Zone) error {
		if t.detached[d.Name] {
			return nil
		}
		batch = append(batch, d)
		records += d.Contents.Len()
		if len(batch) < mostZonesAtOnce && records < mostRecordsAtOnce {
			return nil
		}
		return flush(nil)
	})
	if err != nil {
		return err
	}
	return flush(t.kits)
}
