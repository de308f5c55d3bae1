package hosts

import (
	"fmt"
	"time"

	"beacon/core/change"
	"beacon/core/record"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/store"
)

// Written notes which reports are at the provider by the steps that were done.
func (s *Hosts) Written(tx *store.Tx, placementID uint64, hosts []store.Host, done change.List) error {
	for _, h := range hosts {
		if h.ReportID == nil || h.Unspread {
			continue
		}
		for _, step := range done {
			if k := step.Key(); k.Name == h.Name() && (k.Type == record.A || k.Type == record.AAAA) {
				if err := tx.ReportWritten(*h.ReportID, placementID); err != nil {
					return err
				}
				break
			}
		}
	}
	return nil
}

// Visible notes which reports every nameserver of the placement serves now. Caches let go of what was before
// within its TTL.
func (s *Hosts) Visible(tx *store.Tx, placementID uint64, account string, awaited []sync.AwaitedHost, applied change.List) error {
	for _, a := range awaited {
		longest := a.Host.TTL
		for _, step := range applied {
			if step.Key().Name == a.Host.Name() {
				longest = max(longest, step.Before.TTL)
			}
		}
		settles := s.world.Now().Add(time.Duration(longest) * time.Second)
		if err := tx.ReportVisible(*a.Host.ReportID, placementID, settles); err != nil {
			return err
		}
		name := a.Host.Name().String()
		if err := logbook.Log(tx, "host "+name, "host.visible", name, fmt.Sprintf("%s at every nameserver of %s", addressText(a.Host.At()), account)); err != nil {
			return err
		}
	}
	return nil
}

// Invisible returns the reports that are written to a placement and were not seen at its nameservers yet.
func (s *Hosts) Invisible(tx *store.Tx, placementID uint64) (map[uint64]bool, error) {
	return tx.Invisible(placementID)
}
