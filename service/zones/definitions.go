package zones

import (
	"context"
	"encoding/json"
	"fmt"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// kitTexts returns kits as they are kept.
func kitTexts(kits []definition.Kit) map[string]string {
	texts := map[string]string{}
	for _, k := range kits {
		body, err := json.Marshal(k)
		if err != nil {
			panic(err) // our own type only
		}
		texts[k.Name] = string(body)
	}
	return texts
}

// kitsKept returns the kits of all definitions that were taken so far.
func kitsKept(tx *store.Tx) (kits []definition.Kit, err error) {
	texts, err := tx.Kits()
	if err != nil {
		return nil, err
	}
	kits = make([]definition.Kit, len(texts))
	for i, text := range texts {
		if err := json.Unmarshal([]byte(text), &kits[i]); err != nil {
			return nil, err
		}
	}
	return kits, nil
}

// FromKits returns the kit of each record, empty for those that no kit made.
func FromKits(d definition.Zone, records []record.Record) []string {
	made := map[record.Record]string{}
	for i, o := range d.Origins {
		made[d.Written[i]] = o.Kit
	}
	from := make([]string, len(records))
	for i, r := range records {
		from[i] = made[r]
	}
	return from
}

// ZoneDefinition writes the definition of a zone, whoever leads it, with the kits that fit.
func (s *Zones) ZoneDefinition(ctx context.Context, by access.Caller, name dnsname.Name) (out wire.ZoneDefinition, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		out, err = zoneDefinition(tx, z)
		return err
	})
	return out, err
}

func zoneDefinition(tx *store.Tx, z store.Zone) (out wire.ZoneDefinition, err error) {
	at, registrar, err := ServedBy(tx, z)
	if err != nil {
		return out, err
	}
	delegateTo := ""
	if z.DelegateToID != nil {
		a, err := accounts.ByID(tx, *z.DelegateToID)
		if err != nil {
			return out, err
		}
		delegateTo = a.Name
	}
	d := definition.Zone{Name: z.Name(), Description: z.Description, Providers: at, Registrar: registrar, DelegateTo: delegateTo, TTL: z.TTL, Ignore: z.Ignored(), Settings: z.ZoneSettings()}
	if d.Contents, err = desired(tx, z); err != nil {
		return out, err
	}
	kits, err := kitsKept(tx)
	if err != nil {
		return out, err
	}
	d = definition.Fit(d, kits)
	out.Text, out.Kits = definition.Write([]definition.Zone{d}, kits), []string{}
	for _, u := range d.Uses {
		out.Kits = append(out.Kits, u.Kit)
	}
	return out, nil
}

// ServedBy returns the accounts that a zone is placed at, in the order in which it was placed there, and the account at its registrar,
// empty where that is not known.
func ServedBy(tx *store.Tx, z store.Zone) (at []string, registrar string, err error) {
	if z.RegistrarID != nil {
		a, err := accounts.ByID(tx, *z.RegistrarID)
		if err != nil {
			return nil, "", err
		}
		registrar = a.Name
	}
	placements, err := tx.Placements(z.ID)
	if err != nil {
		return nil, "", err
	}
	for _, p := range placements {
		a, err := accounts.ByID(tx, p.AccountID)
		if err != nil {
			return nil, "", err
		}
		at = append(at, a.Name)
	}
	return at, registrar, nil
}

// Detach detaches a zone from the definition file that manages it, so that it can be changed here. What it gives is
// the definition as it stands now, for the files to be brought up to it later.
func (s *Zones) Detach(ctx context.Context, by access.Caller, name dnsname.Name) (out wire.ZoneDefinition, err error) {
	if err := wire.Permit(by, access.Place, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.LockZone(name)
		if err != nil {
			return err
		}
		if z.ManagedBy == "" {
			return wire.Problemf(wire.Blocked, "%s is not managed by a definition file: it can be changed here. Nothing changed.", name.Unicode())
		}
		if err := tx.Detach(z.ID); err != nil {
			return err
		}
		if err := logbook.Log(tx, by.Name, "zone.detached", name.String(), fmt.Sprintf("it was managed by %s", z.ManagedBy)); err != nil {
			return err
		}
		out, err = zoneDefinition(tx, z)
		return err
	})
	return out, err
}
