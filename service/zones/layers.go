package zones

import (
	"fmt"

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

// Layers returns what lies on top of the revision of a zone that has these hosts, and of whose ALIAS targets this is known.
func Layers(hosts []store.Host, known []store.Alias) (list []layers.Layer) {
	for _, h := range hosts {
		list = append(list, layers.OfHost(h.Name(), h.TTL, h.At()))
	}
	for _, a := range known {
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
