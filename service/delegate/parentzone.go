package delegate

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/registrar"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
)

// parentZone is the registrar of a domain whose parent is a zone that is managed here: the delegation is a layer of that zone, which the
// child owns, and goes into all of its placements by the one way of syncs. A file that manages the parent is not touched.
type parentZone struct {
	s      *Delegations
	parent store.Zone
}

// place is what the parent is called where an account would be named.
func (p parentZone) place() string { return "zone " + p.parent.Name().Unicode() }

// Caps returns what a zone of ours takes: everything.
func (p parentZone) Caps() registrar.Caps {
	return registrar.Caps{Delayed: true, Hosts: true, DS: registrar.Digests}
}

// withoutDS returns the accounts of the zone's placements whose providers cannot keep DS records.
func (p parentZone) withoutDS(ctx context.Context) (list []string, err error) {
	places, err := p.s.syncs.PlacesOf(ctx, p.parent.Name())
	for _, place := range places {
		if !place.Caps.Holds(record.DS) {
			list = append(list, place.Account.Name)
		}
	}
	return list, err
}

// Domains lists the delegations in the zone.
func (p parentZone) Domains(ctx context.Context, _ registrar.Cursor) (page registrar.Page, err error) {
	err = p.s.logbook.Look(ctx, func(tx *store.Tx) error {
		list, err := zones.ChildrenOf(tx, p.parent.ID)
		for _, d := range list {
			r, err := p.registration(tx, d)
			if err != nil {
				return err
			}
			page.Registrations = append(page.Registrations, r)
		}
		return err
	})
	return page, err
}

// Look returns the delegation as the zone should have it (saved) and as every placement has it (active).
func (p parentZone) Look(ctx context.Context, name dnsname.Name) (r registrar.Registration, err error) {
	err = p.s.logbook.Look(ctx, func(tx *store.Tx) error {
		d, err := zones.DelegationIn(tx, p.parent, name)
		if err != nil {
			return err
		}
		r, err = p.registration(tx, d)
		return err
	})
	return r, err
}

func (p parentZone) registration(tx *store.Tx, d layers.Delegation) (r registrar.Registration, err error) {
	r = registrar.Registration{Name: d.Name, Saved: d.Nameservers, Active: d.Nameservers, DS: d.DS}
	for _, h := range d.Hosts {
		r.Hosts = append(r.Hosts, registrar.Host(h))
	}
	behind, err := p.behind(tx, d)
	if err != nil {
		return r, err
	}
	if len(behind) > 0 {
		if r.Active, err = p.written(tx, d.Name); err != nil {
			return r, err
		}
	}
	for _, b := range behind {
		if b.problem == "" {
			r.Pending = append(r.Pending, registrar.Operation{ID: b.account, What: "the sync of " + p.place() + " at " + b.account})
		}
	}
	return r, nil
}

// written returns the nameservers that were last written to the first placement of the zone.
func (p parentZone) written(tx *store.Tx, name dnsname.Name) (list []dnsname.Name, err error) {
	placements, err := zones.Placements(tx, p.parent.ID)
	if err != nil || len(placements) == 0 {
		return nil, err
	}
	c, err := sync.PlacedSets(tx, placements[0].ID, []dnsname.Name{name})
	for _, d := range c.Get(record.Key{Name: name, Type: record.NS}).Data {
		list = append(list, d.Target(record.NS))
	}
	return dnsname.SortSet(list), err
}

// lag is a placement of the zone that does not have a delegation yet.
type lag struct {
	account string
	problem string // why its sync ended without it; empty while it is under way
}

// behind returns the placements that do not have a delegation as it should be.
func (p parentZone) behind(tx *store.Tx, d layers.Delegation) (list []lag, err error) {
	placements, err := zones.Placements(tx, p.parent.ID)
	if err != nil {
		return nil, err
	}
	layer := layers.OfChild(d)
	names := []dnsname.Name{}
	for _, k := range layer.Keys {
		if !slices.Contains(names, k.Name) {
			names = append(names, k.Name)
		}
	}
	should := record.ContentsOf(layer.Sets...)
	for _, placement := range placements {
		if placement.RemoteID == "" {
			continue
		}
		has, err := sync.PlacedSets(tx, placement.ID, names)
		if err != nil {
			return nil, err
		}
		same := true
		for _, k := range layer.Keys {
			same = same && slices.Equal(has.Get(k).Data, should.Get(k).Data)
		}
		if same {
			continue
		}
		account, err := accounts.ByID(tx, placement.AccountID)
		if err != nil {
			return nil, err
		}
		l := lag{account: account.Name}
		running, err := sync.UnderWay(tx, placement.ID)
		if err != nil {
			return nil, err
		}
		if !running {
			last, err := sync.LastOfHosts(tx, placement.ID)
			if err != nil {
				return nil, err
			}
			l.problem = "it was not written yet"
			if last.ID != 0 && last.Message != "" {
				l.problem = last.Message
			}
		}
		list = append(list, l)
	}
	return list, nil
}

// Apply changes the layer, and has it written to every placement of the zone.
func (p parentZone) Apply(ctx context.Context, name dnsname.Name, c registrar.Change) (receipt registrar.Receipt, err error) {
	err = p.s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.Lock(tx, p.parent.Name())
		if err != nil {
			return err
		}
		d, err := zones.DelegationIn(tx, z, name)
		if err != nil {
			return err
		}
		change(&d, c)
		if err := zones.SetChild(tx, z.ID, d, logbook.Behalf(ctx)); err != nil {
			return err
		}
		placements, err := zones.Placements(tx, z.ID)
		if err != nil {
			return err
		}
		for _, placement := range placements {
			if placement.RemoteID == "" {
				continue
			}
			if err := sync.AwaitHosts(tx, "delegation of "+name.Unicode(), placement); err != nil {
				return err
			}
		}
		return logbook.Log(tx, logbook.Behalf(ctx), "delegation.changed", z.Name().String(), fmt.Sprintf("%s: %s", name.Unicode(), c.Do))
	})
	if err != nil {
		return receipt, &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.NotDone, Account: p.place(), Asked: string(c.Do), Said: err.Error()}
	}
	return registrar.Receipt{ID: string(c.Do)}, nil
}

// change makes a change of a delegation.
func change(d *layers.Delegation, c registrar.Change) {
	switch c.Do {
	case registrar.Save:
		d.Nameservers = dnsname.SortSet(c.Nameservers)
		d.Hosts = slices.DeleteFunc(d.Hosts, func(h layers.Host) bool { return !slices.Contains(d.Nameservers, h.Name) })
	case registrar.PutHost, registrar.RemoveHost:
		d.Hosts = slices.DeleteFunc(d.Hosts, func(h layers.Host) bool { return h.Name == c.Host.Name })
		if c.Do == registrar.PutHost {
			d.Hosts = append(d.Hosts, layers.Host(c.Host))
			slices.SortFunc(d.Hosts, func(a, b layers.Host) int { return a.Name.Compare(b.Name) })
		}
		d.Owned = dnsname.SortSet(append(d.Owned, c.Host.Name))
	case registrar.SetDS:
		d.DS = slices.Sorted(slices.Values(c.DS))
	}
}

// Poll reports whether every placement has what the zone should have of the child.
func (p parentZone) Poll(ctx context.Context, name dnsname.Name, r registrar.Receipt) (registrar.Receipt, error) {
	var list []lag
	err := p.s.logbook.Look(ctx, func(tx *store.Tx) error {
		d, err := zones.DelegationIn(tx, p.parent, name)
		if err != nil {
			return err
		}
		list, err = p.behind(tx, d)
		return err
	})
	if err != nil {
		return r, err
	}
	var problems []string
	for _, l := range list {
		if l.problem != "" {
			problems = append(problems, l.account+": "+l.problem)
		}
	}
	if len(problems) == len(list) && len(list) > 0 {
		return r, &outcall.Error{Kind: outcall.Refused, Outcome: outcall.Unclear, Account: p.place(), Asked: r.ID,
			Said: strings.Join(problems, "; ") + ". Sync the zone: beacon sync " + p.parent.Name().Unicode()}
	}
	r.Done = len(list) == 0
	return r, nil
}

// elsewhere returns a warning where none of the nameservers that were asked as the parent is one that the zone was assigned here: then what is
// written into it shows only once the zone itself is delegated there.
func (p parentZone) elsewhere(ctx context.Context, sweep evidence.Sweep) (found []finding.Finding, err error) {
	var assigned []dnsname.Name
	err = p.s.logbook.Look(ctx, func(tx *store.Tx) error {
		placements, err := zones.Placements(tx, p.parent.ID)
		for _, placement := range placements {
			assigned = append(assigned, placement.Names()...)
		}
		return err
	})
	if err != nil || len(assigned) == 0 || len(sweep.Parents) == 0 {
		return nil, err
	}
	for _, a := range sweep.Parents {
		if slices.Contains(assigned, a.Name) {
			return nil, nil
		}
	}
	name := p.parent.Name().Unicode()
	return []finding.Finding{{Code: "parent-served-elsewhere", Severity: finding.Warning, Subject: name,
		Message: fmt.Sprintf("%s is served by %s and others, which are not where it is placed here: visitors see the delegation only once %s is delegated to its placements.", name, dnsname.Short(sweep.Parents[0].Name), name),
		Remedy:  "Move it first: beacon delegate " + name + "."}}, nil
}
