package gather

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/registrar"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Holder returns who holds a domain: the connected account that has it, else what its registry tells, and what to do next.
func (s *Gather) Holder(ctx context.Context, by access.Caller, name dnsname.Name) (out wire.Holder, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	out = wire.Holder{Domain: name, Status: []string{}, Nameservers: []dnsname.Name{}}
	var group sync.WaitGroup
	group.Go(func() { s.askRegistry(ctx, &out) })
	account, err := s.heldBy(ctx, name)
	group.Wait()
	if err != nil {
		return out, err
	}
	out.Account = account.Name
	out.Advice = s.advice(ctx, out)
	return out, nil
}

// heldBy returns the connected account at a registrar that has a domain; its ID is zero where none has.
func (s *Gather) heldBy(ctx context.Context, name dnsname.Name) (found store.Account, err error) {
	var list []store.Account
	if err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) { list, err = s.accounts.List(tx, wire.RoleRegistrar); return err }); err != nil {
		return found, err
	}
	var group sync.WaitGroup
	has := make([]bool, len(list))
	for i, a := range list {
		group.Go(func() { has[i] = s.has(ctx, a, name) })
	}
	group.Wait()
	for i, a := range list {
		if has[i] {
			return a, nil
		}
	}
	return found, nil
}

// has reports whether an account at a registrar holds a domain.
func (s *Gather) has(ctx context.Context, a store.Account, name dnsname.Name) bool {
	driver, err := s.accounts.Registrar(a)
	if err != nil {
		return false
	}
	calling, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	_, err = driver.Look(calling, name)
	return err == nil
}

// askRegistry asks the registry over RDAP.
func (s *Gather) askRegistry(ctx context.Context, out *wire.Holder) {
	_, address, known := s.directory.For(out.Domain)
	if !known {
		out.Problem = "No RDAP server is known for it. Name a bootstrap file in the settings: rdap_bootstrap."
		return
	}
	out.From = address
	calling, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	entry, err := registrar.LookUp(calling, s.http, address, out.Domain)
	switch {
	case errors.Is(err, registrar.ErrNotRegistered):
	case err != nil:
		out.Problem = logbook.Explain(err).Error()
	default:
		out.Registered, out.Registrar, out.Status, out.Nameservers, out.Signed = true, entry.Registrar, append(out.Status, entry.Status...), append(out.Nameservers, entry.Active...), entry.Signed
		if !entry.Expires.IsZero() {
			out.Expires = &entry.Expires
		}
	}
}

// advice says what to do, so that the domain can be moved.
func (s *Gather) advice(ctx context.Context, h wire.Holder) string {
	name := h.Domain.Unicode()
	above := s.managedAbove(ctx, h.Domain)
	kind := ""
	for _, k := range s.accounts.Kinds(ctx, wire.RoleRegistrar) {
		if slices.Contains(strings.FieldsFunc(strings.ToLower(h.Registrar), func(r rune) bool { return r == ' ' || r == ',' || r == '.' }), strings.ToLower(k.Name)) {
			kind = k.Name
		}
	}
	switch {
	case h.Account != "":
		return fmt.Sprintf("The connected account %s holds it: nameservers and DS are changed there.", h.Account)
	case h.Problem != "" && !h.Registered:
		return "If it is registered, connect the account at its registrar (beacon registrar add), or enter changes there by hand."
	case !h.Registered && above != "":
		return fmt.Sprintf("It is below %s, which is managed here: it is delegated in that zone.", above)
	case !h.Registered:
		return fmt.Sprintf("%s is not registered. Register it first.", name)
	case kind != "":
		return fmt.Sprintf("Connect your account there: beacon registrar add NAME --kind %s. Or enter changes there by hand: a handover shows what to enter.", kind)
	case h.Registrar != "":
		return fmt.Sprintf("%s cannot be connected yet. Sign in there and enter changes by hand: a handover shows what to enter.", h.Registrar)
	}
	return "Its registrar is not known. Enter changes there by hand: a handover shows what to enter."
}

// managedAbove returns the closest zone above a name that is managed here; "" for none.
func (s *Gather) managedAbove(ctx context.Context, name dnsname.Name) (above string) {
	var names []dnsname.Name
	for at := name.Parent(); !at.IsRoot(); at = at.Parent() {
		names = append(names, at)
	}
	_ = s.logbook.Look(ctx, func(tx *store.Tx) error {
		managed, err := zones.Managed(tx, names)
		for _, at := range names {
			if managed[at] && above == "" {
				above = at.Unicode()
			}
		}
		return err
	})
	return above
}
