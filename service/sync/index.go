package sync

import (
	"context"
	"sync"
	"time"

	"beacon/core/dnsname"
	"beacon/provider"
)

// indexKept is how long an account's list of zones is gone by when a zone is looked for, real time. A zone that is not in
// it may have been made meanwhile: then making it is refused as a conflict, and the list is read again.
const indexKept = 30 * time.Second

// index is which zones an account holds, so that placing many does not list them all for each.
type index struct {
	mu    sync.Mutex
	zones map[dnsname.Name]provider.Zone
	read  time.Time
}

func (s *Syncs) indexOf(account uint64) *index {
	s.indexesMu.Lock()
	defer s.indexesMu.Unlock()
	if s.indexes[account] == nil {
		s.indexes[account] = &index{}
	}
	return s.indexes[account]
}

// find looks for a zone in the account's list, which is read where it is older than allowed.
func (i *index) find(ctx context.Context, d provider.Driver, name dnsname.Name, now time.Time, kept time.Duration) (provider.Zone, bool, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if now.Sub(i.read) > kept {
		list, err := provider.AllZones(ctx, d)
		if err != nil {
			return provider.Zone{}, false, err
		}
		i.zones, i.read = map[dnsname.Name]provider.Zone{}, now
		for _, z := range list {
			i.zones[z.Ref.Name] = z
		}
	}
	z, there := i.zones[name]
	return z, there, nil
}

// add notes a zone that was just made.
func (i *index) add(z provider.Zone) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.zones != nil {
		i.zones[z.Ref.Name] = z
	}
}
