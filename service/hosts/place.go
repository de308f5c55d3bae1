package hosts

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/dynaddr"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
)

// place is a location with its uplinks and hosts, read.
type place struct {
	store.Location
	policy  dynaddr.Policy
	uplinks []store.Uplink
	lines   dynaddr.Uplinks
	hosts   []follower
}

// follower is a host as it follows its location.
type follower struct {
	store.Host
	follows dynaddr.Follows
	stands  dynaddr.Host
}

// placeAt reads a location. A locked one is kept from others until the transaction ends.
func placeAt(tx *store.Tx, id uint64, lock bool) (p place, err error) {
	if lock {
		p.Location, err = tx.LockLocation(id)
	} else {
		p.Location, err = tx.LocationByID(id)
	}
	if err != nil {
		return p, err
	}
	if p.uplinks, err = tx.Uplinks(id); err != nil {
		return p, err
	}
	hosts, err := tx.HostsAt(id)
	if err != nil {
		return p, err
	}
	return p, p.read(hosts)
}

// read works out what the rows of a location mean.
func (p *place) read(hosts []store.Host) (err error) {
	if p.policy, err = p.Rules(); err != nil {
		return fmt.Errorf("the policy of location %d: %w", p.ID, err)
	}
	p.lines.Since = p.CreatedAt
	if p.Since != nil {
		p.lines.Since = *p.Since
	}
	p.lines.List = make([]dynaddr.Uplink, len(p.uplinks))
	for i, u := range p.uplinks {
		if p.lines.List[i], err = u.Line(); err != nil {
			return fmt.Errorf("uplink %d: %w", u.ID, err)
		}
	}
	for _, h := range hosts {
		f := follower{Host: h}
		if f.follows, err = h.Following(p.policy); err != nil {
			return err
		}
		if f.stands, err = h.Stands(); err != nil {
			return fmt.Errorf("the state of host %s: %w", h.Name(), err)
		}
		p.hosts = append(p.hosts, f)
	}
	return nil
}

// families are what the hosts of a location follow. Where it has none yet, anything may be reported.
func (p place) families() (f dynaddr.Families) {
	for _, h := range p.hosts {
		f.V4, f.V6 = f.V4 || h.FollowsV4, f.V6 || h.FollowsV6
	}
	if len(p.hosts) == 0 {
		return dynaddr.Families{V4: true, V6: true}
	}
	return f
}

// title names a location, or the host that it is for.
func (p place) title() string {
	if label := p.Label(); label != "" || len(p.hosts) == 0 {
		return label
	}
	return p.hosts[0].Name().Unicode()
}

// decided is what a location makes of its uplinks at a moment.
type decided struct {
	changes []dynaddr.Change // by host
	next    time.Time        // when something changes without a report; zero for never
}

// decide works out what each host has at a moment. It changes nothing.
func (s *Hosts) decide(p place, now time.Time) (d decided) {
	for _, h := range p.hosts {
		is, next := dynaddr.Follow(h.follows, p.lines, h.stands, now, s.believe)
		d.changes = append(d.changes, dynaddr.Change{Was: h.stands, Is: is})
		if !next.IsZero() && (d.next.IsZero() || next.Before(d.next)) {
			d.next = next
		}
	}
	return d
}

// still reports whether no host changes.
func (d decided) still() bool {
	return !slices.ContainsFunc(d.changes, func(c dynaddr.Change) bool { return c.Was != c.Is })
}

// carry stores what was decided: hosts that move get their addresses, and have them written to the providers. The location is locked. r is the report that led to it, or
// empty where time alone did.
func (s *Hosts) carry(tx *store.Tx, p place, d decided, r store.Report, actor string) error {
	var moved []int
	var made []store.Placement
	for i, c := range d.changes {
		if c.Was == c.Is {
			continue
		}
		h := &p.hosts[i]
		h.Keep(c.Is)
		if c.Moved() {
			at, err := zones.Placements(tx, h.ZoneID)
			if err != nil {
				return err
			}
			moved, made = append(moved, i), append(made, at...)
			continue
		}
		if err := s.wait(tx, *h, c, r, actor); err != nil {
			return err
		}
	}
	if len(moved) == 0 {
		return nil
	}
	made = placed(made)
	slices.SortFunc(made, func(a, b store.Placement) int { return int(int64(a.ID) - int64(b.ID)) })
	made = slices.CompactFunc(made, func(a, b store.Placement) bool { return a.ID == b.ID })
	if err := zones.LockPlacements(tx, made); err != nil {
		return err
	}
	for _, i := range moved {
		if err := s.move(tx, p, p.hosts[i], d.changes[i], r, made, actor); err != nil {
			return err
		}
	}
	return s.await(tx, made, actor)
}

// placed returns the placements that are at their providers.
func placed(list []store.Placement) []store.Placement {
	return slices.DeleteFunc(list, func(p store.Placement) bool { return p.RemoteID == "" })
}

// move gives a host its addresses.
func (s *Hosts) move(tx *store.Tx, p place, h follower, c dynaddr.Change, r store.Report, made []store.Placement, actor string) error {
	now := c.Is.Now()
	r.HostID = h.ID
	r.V4, r.V6 = textOf(now.V4), textOf(now.V6)
	if r.Reason = p.cause(c, r); r.Uplink == "" {
		r.ReportedAt = s.store.Now()
	}
	own := slices.DeleteFunc(slices.Clone(made), func(p store.Placement) bool { return p.ZoneID != h.ZoneID })
	if err := tx.AcceptReport(r, h.Host, now, own); err != nil {
		return err
	}
	text := fmt.Sprintf("%s, before %s", addressText(now), addressText(c.Was.Now()))
	if r.Reason != "" {
		text += ": " + r.Reason
	}
	name := h.Name().String()
	if !c.Is.Silent.IsZero() && c.Was.Silent.IsZero() {
		if err := logbook.Log(tx, actor, "host.silent", name, "no report since "+c.Is.Silent.UTC().Format(time.DateTime)); err != nil {
			return err
		}
	}
	return logbook.Log(tx, actor, "host.reported", name, text)
}

// cause says why a host moves, where the report does not say it.
func (p place) cause(c dynaddr.Change, r store.Report) string {
	held := c.Was.V4.Held() && c.Is.V4.Addr != c.Was.V4.Addr || c.Was.V6.Held() && c.Is.V6.Addr != c.Was.V6.Addr
	switch {
	case !c.Is.Silent.IsZero() && c.Was.Silent.IsZero():
		return "nothing was reported for too long"
	case r.Uplink == "" && held:
		return "the change was held until now"
	case r.Uplink == "":
		names := []string{}
		for _, f := range []dynaddr.Followed{c.Is.V4, c.Is.V6} {
			if f.Uplink >= 0 && f.Uplink < len(p.uplinks) && !slices.Contains(names, p.uplinks[f.Uplink].Name) {
				names = append(names, p.uplinks[f.Uplink].Name)
			}
		}
		if len(names) == 0 {
			return "no uplink has an address"
		}
		return "it follows uplink " + strings.Join(names, " and ") + " now"
	}
	return ""
}

// wait stores what a host waits for, or that it is silent.
func (s *Hosts) wait(tx *store.Tx, h follower, c dynaddr.Change, r store.Report, actor string) error {
	if err := tx.SaveStands(h.Host); err != nil {
		return err
	}
	name := h.Name().String()
	switch {
	case !c.Is.Silent.IsZero() && c.Was.Silent.IsZero():
		return logbook.Log(tx, actor, "host.silent", name, "no report since "+c.Is.Silent.UTC().Format(time.DateTime))
	case c.Is.Silent.IsZero() && !c.Was.Silent.IsZero():
		return logbook.Log(tx, actor, "host.reports-again", name, addressText(c.Is.Now()))
	case r.Uplink == "" || !c.Is.V4.Held() && !c.Is.V6.Held():
		return nil
	}
	r.HostID, r.Outcome, r.Reason = h.ID, dynaddr.Held, "the address changes too often"
	first, err := tx.NoteReport(r)
	if err != nil || !first {
		return err
	}
	return logbook.Log(tx, actor, "host.held", name, "changes too often; the newest address is taken later")
}

// await asks for syncs of the hosts at placements.
func (s *Hosts) await(tx *store.Tx, placements []store.Placement, actor string) error {
	for _, p := range placements {
		z, err := zones.ByID(tx, p.ZoneID)
		if err != nil {
			return err
		}
		if err := sync.AwaitHosts(tx, z, p, actor); err != nil {
			return err
		}
	}
	return nil
}

// foresee has the hosts of a location looked at when something changes without a report.
func (s *Hosts) foresee(tx *store.Tx, p place, d decided) error {
	if d.next.IsZero() {
		return nil
	}
	return s.jobs.EnqueueWorld(tx, store.JobHosts, p.ID, d.next)
}
