package sync

import (
	"context"
	"sync"
	"time"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/provider"
	"beacon/wire"
)

// indexKept is how long an account's list of zones is gone by when a zone is looked for, wall time. A zone that is not in
// it may have been made meanwhile: then making it is refused as a conflict, and the list is read anew.
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
		zones := map[dnsname.Name]provider.Zone{}
		for cursor := provider.Cursor(""); ; {
			page, err := d.Zones(ctx, cursor)
			if err != nil {
				return provider.Zone{}, false, err
			}
			for _, z := range page.Zones {
				zones[z.Ref.Name] = z
			}
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		i.zones, i.read = zones, now
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

// findOrMake finds a zone at an account, and makes it where it is not there. made says that it was made now.
func (s *Syncs) findOrMake(ctx context.Context, account uint64, d provider.Driver, name dnsname.Name) (z provider.Zone, made bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 4*s.timeout) // a list of several pages
	defer cancel()
	known := s.indexOf(account)
	there := false
	if caps, err := d.Describe(ctx, provider.ZoneRef{Name: name}); err != nil {
		return z, false, err
	} else if caps.FixedZones {
		z, there, err = provider.FindZone(ctx, d, name)
		if err != nil || there {
			return z, false, err
		}
	} else if z, there, err = known.find(ctx, d, name, s.wall.Now(), indexKept); err != nil || there {
		return z, false, err
	}
	z, err = d.Create(ctx, name, provider.ZoneOptions{})
	if outcall.KindOf(err) == outcall.Conflict { // it was made since the list was read, or by a request of ours that broke off
		if z, there, err = known.find(ctx, d, name, s.wall.Now(), 0); err == nil && !there {
			err = wire.Problemf(wire.InTheWay, "The provider says that %s is there already, and does not list it: another customer of its may have it.", name.Unicode())
		}
		return z, false, err
	}
	if err != nil {
		return z, false, err
	}
	known.add(z)
	return z, true, nil
}
