package delegate

import (
	"context"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/wire"
)

// Sight is what is known of a change of nameservers before the registrar is asked for it.
type Sight struct {
	wire.Delegated
	Target       []dnsname.Name
	Place        string // where the registration is: the account, or the parent zone; empty where a user enters the list by hand
	ByHand       bool
	Registration delegation.Registration
	Sweep        evidence.Sweep
	History      delegation.History // with the sweep in it
	Relays       []record.Key       // sets that the old side answers with something of its own, as its account says
}

// Look returns what holds before a change of nameservers, or during one; also names more nameservers to ask. It changes nothing.
func (s *Delegations) Look(ctx context.Context, r wire.DelegateRequest, also []dnsname.Name) (Sight, error) {
	m, err := s.moveOf(ctx, r)
	if err != nil {
		return Sight{}, err
	}
	m.also = also
	found, err := s.look(ctx, m)
	return Sight{Delegated: found.Delegated, Target: m.target, Place: m.place, ByHand: m.byHand, Registration: found.registration, Sweep: found.sweep, History: found.history, Relays: found.relays}, err
}
