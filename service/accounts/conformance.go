package accounts

import (
	"context"
	"fmt"
	"time"

	"beacon/core/dnsname"
	"beacon/provider"
	"beacon/provider/conform"
	"beacon/store"
	"beacon/wire"
)

// verifyTime bounds a conformance run, real time.
const verifyTime = 5 * time.Minute

// Verify makes the conformance run with an account in a scratch zone. The zone must be nothing that is looked after here.
// Each result is told as it comes.
func (s *Accounts) Verify(ctx context.Context, name string, zone dnsname.Name, report func(wire.Verified)) ([]wire.Verified, error) {
	var a store.Account
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if a, err = tx.Account(wire.RoleProvider, name); err != nil {
			return err
		}
		if managed, err := s.managed(tx, []dnsname.Name{zone}); err != nil {
			return err
		} else if managed[zone] {
			return wire.Problemf(wire.Blocked, "Zone %s is managed here. The test writes and removes records. Name a scratch zone instead, such as scratch.%s. Nothing changed.", zone.Unicode(), zone.Unicode())
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	driver, err := s.Provider(a)
	if err != nil {
		return nil, err
	}
	secret, err := s.Secret(a)
	if err != nil {
		return nil, err
	}
	kind, _ := s.kinds.known(a.Kind)
	wrong := kind.wrong(secret)
	var other provider.Driver
	if !kind.Inbound {
		if other, err = s.driverWith(a, wrong); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, verifyTime)
	defer cancel()
	s.logbook.Note(ctx, "account.verify", name, "conformance run in "+zone.Unicode())
	list := []wire.Verified{}
	results := conform.Run(ctx, conform.Subject{Driver: driver, WrongKey: other, Secret: wrong, Zone: zone}, func(r conform.Result) {
		list = append(list, wire.Verified{Check: r.Check, Outcome: string(r.Outcome), Detail: r.Detail, Took: r.Took})
		if report != nil {
			report(list[len(list)-1])
		}
	})
	s.logbook.Note(ctx, "account.verified", name, fmt.Sprintf("%d checks, %d failed", len(results), conform.Failures(results)))
	return list, nil
}
