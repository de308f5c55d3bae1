package zones

import (
	"fmt"
	"net/netip"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/store"
	"beacon/wire"
)

// HostsOf returns the dynamic hosts of a zone, whose reported addresses are a layer on top of its revision.
func HostsOf(tx *store.Tx, zoneID uint64) ([]store.Host, error) { return tx.HostsOf(zoneID) }

// Aliases returns what is known of the targets of the ALIAS records of a zone.
func Aliases(tx *store.Tx, zoneID uint64) ([]store.Alias, error) { return tx.Aliases(zoneID) }

// ChildrenOf returns the delegations in a zone, which are a layer on top of its revision.
func ChildrenOf(tx *store.Tx, zoneID uint64) ([]layers.Delegation, error) {
	return tx.ChildrenOf(zoneID)
}

// ChildNamed finds the delegation of a name in a zone that is managed here.
func ChildNamed(tx *store.Tx, name dnsname.Name) (store.Child, bool, error) {
	return tx.ChildNamed(name)
}

// SetChild keeps what a parent should have of a child.
func SetChild(tx *store.Tx, parent uint64, d layers.Delegation, by string) error {
	return tx.SetChild(parent, d, by)
}

// ParentOf returns the zone that is managed here and in which a name is delegated: the nearest above it that is placed somewhere, unless the
// zone itself delegates a name between the two to others.
func ParentOf(tx *store.Tx, name dnsname.Name) (parent store.Zone, there bool, err error) {
	var above []dnsname.Name
	for n := name.Parent(); !n.IsRoot(); n = n.Parent() {
		above = append(above, n)
	}
	known, err := tx.ZonesAmong(above)
	if err != nil {
		return parent, false, err
	}
	i := slices.IndexFunc(above, func(n dnsname.Name) bool { return known[n] })
	if i < 0 {
		return parent, false, nil
	}
	if parent, err = tx.Zone(above[i]); err != nil || parent.RevisionID == nil {
		return parent, false, err
	}
	for _, between := range above[:i] {
		list, err := tx.RecordsAt(parent.ID, between)
		if err != nil || slices.ContainsFunc(list, func(r record.Record) bool { return r.Type == record.NS }) {
			return parent, false, err
		}
	}
	placements, err := tx.Placements(parent.ID)
	return parent, len(placements) > 0, err
}

// DelegationIn returns what a zone that is managed here has of a delegation: as the child owns it, or as the revision says.
func DelegationIn(tx *store.Tx, parent store.Zone, name dnsname.Name) (d layers.Delegation, err error) {
	child, there, err := tx.ChildNamed(name)
	if err != nil {
		return d, err
	}
	if there && child.ParentID == parent.ID {
		return child.Delegation()
	}
	d = layers.Delegation{Name: name, TTL: parent.TTL}
	if d.TTL == 0 {
		d.TTL = childTTL
	}
	list, err := tx.RecordsAt(parent.ID, name)
	if err != nil {
		return d, err
	}
	for _, r := range list {
		switch r.Type {
		case record.NS:
			d.Nameservers, d.TTL = append(d.Nameservers, r.Data.Target(record.NS)), r.TTL
		case record.DS:
			d.DS = append(d.DS, r.Data)
		}
	}
	d.Nameservers = dnsname.SortSet(d.Nameservers)
	for _, n := range d.Nameservers {
		if !n.IsAtOrBelow(name) {
			continue
		}
		h := layers.Host{Name: n}
		glue, err := tx.RecordsAt(parent.ID, n)
		if err != nil {
			return d, err
		}
		for _, r := range glue {
			if a, err := netip.ParseAddr(string(r.Data)); err == nil {
				h.Addresses = append(h.Addresses, a)
			}
		}
		d.Hosts, d.Owned = append(d.Hosts, h), append(d.Owned, n)
	}
	return d, nil
}

// childTTL is the TTL of a delegation in a zone that does not say its own, seconds.
const childTTL = 3600

// Owners are those who own layers of a zone.
type Owners struct {
	Children []layers.Delegation // zones that are delegated in it
	Hosts    []store.Host        // dynamic hosts, whose reported addresses they are
	Aliases  []store.Alias       // what is known of the targets of its ALIAS records
}

// OwnersOf returns who owns layers of a zone.
func OwnersOf(tx *store.Tx, zoneID uint64) (o Owners, err error) {
	if o.Children, err = tx.ChildrenOf(zoneID); err != nil {
		return o, err
	}
	if o.Hosts, err = tx.HostsOf(zoneID); err != nil {
		return o, err
	}
	o.Aliases, err = tx.Aliases(zoneID)
	return o, err
}

// Names returns the names at which the layers own sets.
func (o Owners) Names() (list []dnsname.Name) {
	seen := map[dnsname.Name]bool{}
	for _, l := range o.Layers() {
		for _, k := range l.Keys {
			if !seen[k.Name] {
				seen[k.Name] = true
				list = append(list, k.Name)
			}
		}
	}
	return list
}

// Layers returns what lies on top of the revision.
func (o Owners) Layers() (list []layers.Layer) {
	for _, d := range o.Children {
		list = append(list, layers.OfChild(d))
	}
	for _, h := range o.Hosts {
		list = append(list, layers.OfHost(h.Name(), h.TTL, h.At(), h.Gone()))
	}
	for _, a := range o.Aliases {
		if a.AnsweredAt != nil {
			list = append(list, layers.OfAlias(a.Name, a.Target, record.Followed{Addresses: a.Answers, TTL: a.TTL}))
		}
	}
	return list
}

// AliasFindings returns what is wrong with the targets of ALIAS records.
func AliasFindings(list []store.Alias) (found []finding.Finding) {
	for _, a := range list {
		subject := record.Key{Name: a.Name, Type: record.ALIAS}.String()
		if a.Problem != "" {
			stays := "No address of it is known yet, and none is written."
			if a.AnsweredAt != nil {
				stays = fmt.Sprintf("The last good answer stays: %v.", a.Answers)
			}
			found = append(found, finding.Finding{Code: "alias-unanswered", Severity: finding.Warning, Subject: subject,
				Message: fmt.Sprintf("%s does not resolve: %s. %s", a.Target.Unicode(), a.Problem, stays),
				Remedy:  "Check the name; if it is right, its own nameservers have to answer."})
		}
		if a.Differs != "" {
			found = append(found, finding.Finding{Code: "alias-differs", Severity: finding.Warning, Subject: subject,
				Message: fmt.Sprintf("%s answers differently by place: %s.", a.Target.Unicode(), a.Differs),
				Remedy:  "Every client gets one of the answers, wherever it is. Use a CNAME below the apex if that matters."})
		}
	}
	return found
}

// HostFits refuses a host where its addresses could not stand.
func HostFits(zone dnsname.Name, contents record.Contents, host dnsname.Name) error {
	for at := host; at.IsBelow(zone); at = at.Parent() {
		if set := contents.Get(record.Key{Name: at, Type: record.NS}); !set.IsZero() {
			return wire.Problemf(wire.Blocked, "%s is delegated to other nameservers at %s; its address belongs there.", host, at)
		}
	}
	for t, one := range map[record.Type]string{record.CNAME: "a CNAME", record.ALIAS: "an ALIAS"} {
		if set := contents.Get(record.Key{Name: host, Type: t}); !set.IsZero() {
			return wire.Problemf(wire.Blocked, "%s is %s to %s, which allows no address at the same name. Remove the %s from the definition first.", host, one, set.Data[0], t)
		}
	}
	return nil
}

// HostsFit refuses contents that leave no place for the addresses of the zone's hosts.
func HostsFit(tx *store.Tx, z store.Zone, contents record.Contents) error {
	hosts, err := tx.HostsOf(z.ID)
	if err != nil {
		return err
	}
	for _, h := range hosts {
		if err := HostFits(z.Name(), contents, h.Name()); err != nil {
			return wire.Problemf(wire.Blocked, "%s It follows a reported address here (beacon host show %s); nothing was changed.", err, h.Name())
		}
	}
	return nil
}
