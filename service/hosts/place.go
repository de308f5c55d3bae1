package hosts

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/dynaddr"
	"beacon/service/logbook"
	"beacon/store"
)

// place is a location with its uplinks and hosts, read.
type place struct {
	store.Location
	policy  dynaddr.Policy
	uplinks []store.Uplink
	lines   dynaddr.Uplinks
	hosts   []follower

	foreseen time.Time // when its hosts are looked at, if that is known
	arrived  bool      // what was accepted last is served everywhere, or was asked about lately
	asked    time.Time // real time
}

// clone returns a copy that may be changed.
func (p place) clone() place {
	p.uplinks, p.hosts, p.lines.List = slices.Clone(p.uplinks), slices.Clone(p.hosts), slices.Clone(p.lines.List)
	return p
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

// carry keeps what was decided in what was read of a location, and returns the hosts that move, which are to be accepted. What only waits is stored. The location is locked.
// r is the report that led to it, or one without an uplink where something else did.
func (s *Hosts) carry(tx *store.Tx, p *place, d decided, r store.Report) (moved []store.Acceptance, err error) {
	for i, c := range d.changes {
		if c.Was == c.Is {
			continue
		}
		h := &p.hosts[i]
		h.stands = c.Is
		h.Keep(c.Is)
		if silent := !c.Is.Silent.IsZero(); silent && c.Was.Silent.IsZero() {
			if err := logbook.Log(tx, r.Actor, "host.silent", h.Name().String(), "no report since "+c.Is.Silent.UTC().Format(time.DateTime)); err != nil {
				return nil, err
			}
			if err := s.tell(tx, h.ZoneID); err != nil {
				return nil, err
			}
		}
		if c.Moved() {
			moved = append(moved, s.move(*p, h, c, r))
			continue
		}
		if err := s.wait(tx, *h, c, r); err != nil {
			return nil, err
		}
	}
	return moved, nil
}

// placed returns the placements that are at their providers.
func placed(list []store.Placement) []store.Placement {
	return slices.DeleteFunc(list, func(p store.Placement) bool { return p.RemoteID == "" })
}

// move returns a host with its new addresses, and the report of it.
func (s *Hosts) move(p place, h *follower, c dynaddr.Change, r store.Report) store.Acceptance {
	now, was := c.Is.Now(), c.Was.Now()
	h.V4, h.V6 = now.V4.AsSlice(), now.V6.AsSlice()
	r.HostID, r.V4, r.V6, r.Was = h.ID, textOf(now.V4), textOf(now.V6), strings.TrimSpace(textOf(was.V4)+" "+textOf(was.V6))
	if r.Reason = p.cause(c, r); r.Uplink == "" {
		r.ReportedAt = s.store.Now()
	}
	return store.Acceptance{Report: r, Host: h.Host}
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

// wait stores what a host waits for.
func (s *Hosts) wait(tx *store.Tx, h follower, c dynaddr.Change, r store.Report) error {
	if err := tx.SaveStands(h.Host); err != nil {
		return err
	}
	name := h.Name().String()
	switch {
	case c.Is.Silent.IsZero() && !c.Was.Silent.IsZero():
		return logbook.Log(tx, r.Actor, "host.reports-again", name, addressText(c.Is.Now()))
	case r.Uplink == "" || !c.Is.V4.Held() && !c.Is.V6.Held():
		return nil
	}
	r.HostID, r.Outcome, r.Reason = h.ID, dynaddr.Held, "the address changes too often"
	first, err := tx.NoteReport(r)
	if err != nil || !first {
		return err
	}
	return logbook.Log(tx, r.Actor, "host.held", name, "changes too often; the newest address is taken later")
}

// foresee has the hosts of a location looked at when something changes without a report. Where they are looked at sooner anyhow, that is found out then.
func (s *Hosts) foresee(tx *store.Tx, p *place, d decided, now time.Time) error {
	if d.next.IsZero() || p.foreseen.After(now) && !p.foreseen.After(d.next) {
		return nil
	}
	p.foreseen = d.next
	return s.jobs.EnqueueWorld(tx, store.JobHosts, p.ID, d.next)
}
