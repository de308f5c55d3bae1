package accounts

import (
	"context"
	"sync"
	"time"

	"beacon/core/dnsname"
	"beacon/provider"
)

// ZonesKept is how long an account's list of zones is gone by when a zone is looked for, real time. A zone that is not in
// it may have been made meanwhile: then making it is refused as a conflict, and the list is read again.
const ZonesKept = 30 * time.Second

// ZoneLists is which zones accounts hold, so that placing many does not list them all for each. The zero value is ready.
type ZoneLists struct {
	mu    sync.Mutex
	lists map[uint64]*ZoneList
}

// Of returns the list of an account.
func (l *ZoneLists) Of(account uint64) *ZoneList {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lists == nil {
		l.lists = map[uint64]*ZoneList{}
	}
	if l.lists[account] == nil {
		l.lists[account] = &ZoneList{}
	}
	return l.lists[account]
}

// ZoneList is which zones an account holds.
type ZoneList struct {
	mu    sync.Mutex
	zones map[dnsname.Name]provider.Zone
	read  time.Time
}

// Find looks for a zone in the account's list, which is read where it is older than allowed.
func (i *ZoneList) Find(ctx context.Context, d provider.Driver, name dnsname.Name, now time.Time, kept time.Duration) (provider.Zone, bool, error) {
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

// Add notes a zone that was just made.
func (i *ZoneList) Add(z provider.Zone) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.zones != nil {
		i.zones[z.Ref.Name] = z
	}
}
