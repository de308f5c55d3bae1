package zones

import (
	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/store"
	"beacon/wire"
)

// Accepted is what shall become what a zone should contain.
type Accepted struct {
	Contents record.Contents
	Source   string
	Reason   string
	From     map[record.Key]string // the kits that sets come from; nil to go on with what is known of those that stay as they are
	Files    bool                  // it comes from the definition files that lead the zone

	Attributes *[]definition.SetAttributes // that sets shall have; nil for those that are declared already
}

// Revise makes contents what a locked zone should contain. Everything that does goes through here.
func (s *Zones) Revise(by access.Caller, tx *store.Tx, z store.Zone, a Accepted) (rev store.Revision, made bool, err error) {
	if !a.Files {
		if err := notManaged(z); err != nil {
			return rev, false, err
		}
	}
	if err := HostsFit(tx, z, a.Contents); err != nil {
		return rev, false, err
	}
	if a.From == nil {
		if a.From, err = originsThatStay(tx, z, a.Contents); err != nil {
			return rev, false, err
		}
	}
	attributes := z.ZoneSettings().Attributes
	if a.Attributes != nil {
		attributes = *a.Attributes
	}
	rev, made, err = tx.AddRevision(z, a.Contents, store.Accepted{Author: by.Name, Source: a.Source, Reason: a.Reason, From: a.From, Attributes: attributes})
	if err != nil {
		return rev, false, err
	}
	if a.Attributes != nil && made {
		if err := tx.SetAttributes(z.ID, attributes); err != nil {
			return rev, false, err
		}
	}
	return rev, made, s.revised(tx, z, a.Contents)
}

// notManaged refuses changes to a zone that definition files lead: they would be lost with the next change of the files.
func notManaged(z store.Zone) error {
	if z.ManagedBy == "" {
		return nil
	}
	name := z.Name().Unicode()
	return wire.Problemf(wire.Blocked, "%s is managed by the definition file %s: changes made here would be lost with the next beacon apply. Nothing changed. Change the file, or detach the zone: beacon zone detach %s",
		name, z.ManagedBy, name)
}

// originsThatStay returns the kits of those sets that a new state of a zone leaves as they are.
func originsThatStay(tx *store.Tx, z store.Zone, c record.Contents) (map[record.Key]string, error) {
	if z.RevisionID == nil {
		return nil, nil
	}
	known, err := tx.Origins(*z.RevisionID)
	if err != nil || len(known) == 0 {
		return nil, err
	}
	before, err := tx.Contents(*z.RevisionID)
	if err != nil {
		return nil, err
	}
	from := map[record.Key]string{}
	for set := range c.Sets() {
		if kit, ok := known[set.Key().String()]; ok && before.Get(set.Key()).Equal(set) {
			from[set.Key()] = kit
		}
	}
	return from, nil
}

// Judge returns what the rules find in contents of a zone.
func (s *Zones) Judge(z rules.Zone) []rules.Found {
	z.Believe = s.believe
	return rules.Check(z)
}

// sound refuses contents that no nameserver could serve.
func sound(found []rules.Found, what string) error {
	if errors := rules.Errors(found); len(errors) > 0 {
		return &wire.Problem{Kind: wire.Invalid, Message: what + " no nameserver could serve; nothing was changed.", Findings: errors}
	}
	return nil
}

// sameOrigins puts the kits that sets come from back to the sets.
func sameOrigins(c record.Contents, known map[string]string) map[record.Key]string {
	from := map[record.Key]string{}
	if len(known) == 0 {
		return from
	}
	for set := range c.Sets() {
		if kit, ok := known[set.Key().String()]; ok {
			from[set.Key()] = kit
		}
	}
	return from
}
