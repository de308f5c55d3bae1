package wire

import (
	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
)

// Permit returns a problem where a caller may not do something to an object.
func Permit(by access.Caller, action access.Action, object access.Object) error {
	if d := access.May(by, action, object); !d.Allowed {
		return Problemf(NotPermitted, "%s. Nothing changed. An owner can grant it: beacon user grant.", wording.Sentence(d.Missing))
	}
	return nil
}

// PermitSets returns a problem where a caller may not do something to one of some record sets of a zone.
func PermitSets(by access.Caller, action access.Action, zone dnsname.Name, keys []record.Key) error {
	for _, key := range keys {
		if err := Permit(by, action, access.Set(zone, key)); err != nil {
			return err
		}
	}
	return nil
}
