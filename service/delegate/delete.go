package delegate

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/service/acts"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// PreviewDelete returns what the deletion of a zone would do, and which gates block it. It changes nothing.
func (s *Delegations) PreviewDelete(ctx context.Context, by access.Caller, r wire.DeleteRequest) (out wire.Deleted, err error) {
	if err := wire.Permit(by, access.See, access.Zone(r.Zone)); err != nil {
		return out, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		_, out, err = s.deletable(tx, r)
		return err
	})
	if err != nil {
		return out, err
	}
	report, err := s.checks.Preview(ctx, r.Zone)
	if err != nil {
		return out, err
	}
	out.Guards = deleteGuards(r, report)
	return out, nil
}

// Delete deletes a zone here. Nothing changes at a provider or registrar: a zone that is still placed is retired first.
func (s *Delegations) Delete(ctx context.Context, by access.Caller, r wire.DeleteRequest) (out wire.Deleted, err error) {
	if err := wire.Permit(by, access.Place, access.Zone(r.Zone)); err != nil {
		return out, err
	}
	if err := reasoned(r.Override, r.Reason); err != nil {
		return out, err
	}
	if out, err = s.PreviewDelete(ctx, by, r); err != nil {
		return out, err
	}
	guards := out.Guards
	blocking := slices.DeleteFunc(slices.Clone(guards), func(f finding.Finding) bool { return slices.Contains(r.Override, f.Code) })
	if len(blocking) > 0 {
		problem := wire.Problemf(wire.Blocked, "A gate blocks the deletion of %s: %s Nothing was changed.", r.Zone.Unicode(), blocking[0].Message)
		problem.Findings = blocking
		return out, problem
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, now, err := s.deletable(tx, r)
		if err != nil {
			return err
		}
		if err := zones.Delete(tx, z.ID); err != nil {
			return err
		}
		out, out.Guards, out.Deleted = now, guards, true
		detail := fmt.Sprintf("%d records, %d hosts", now.Records, now.Hosts)
		if r.Reason != "" {
			detail += "; overridden: " + strings.Join(r.Override, ", ") + ", " + r.Reason
		}
		return logbook.Log(tx, by.Name, "zone.deleted", r.Zone.String(), detail)
	})
	return out, err
}

// deletable locks a zone that can be deleted as far as the database knows.
func (s *Delegations) deletable(tx *store.Tx, r wire.DeleteRequest) (z store.Zone, out wire.Deleted, err error) {
	out = wire.Deleted{Zone: r.Zone, Guards: []finding.Finding{}}
	if z, err = zones.Lock(tx, r.Zone); err != nil {
		return z, out, err
	}
	if z.ManagedBy != "" && !z.Detached && z.VanishedAt == nil {
		return z, out, wire.Problemf(wire.Blocked, "Zone %s is managed by the file %s. Take it out of the file, or detach it first: beacon zone detach %s. Nothing was changed.", r.Zone.Unicode(), z.ManagedBy, r.Zone.Unicode())
	}
	if err := s.reserved(tx, z); err != nil {
		return z, out, err
	}
	placements, err := zones.PlacedAt(tx, z.ID)
	if err != nil {
		return z, out, err
	}
	if len(placements) > 0 {
		return z, out, wire.Problemf(wire.Blocked, "Zone %s is still placed at %s. Retire it there first: beacon zone retire %s --account %s. Nothing was changed.",
			r.Zone.Unicode(), strings.Join(placements, ", "), r.Zone.Unicode(), placements[0])
	}
	running, err := acts.Unfinished(tx, r.Zone.String(), wire.ActRetire, wire.ActDelegate)
	if err != nil {
		return z, out, err
	}
	if running.ID != 0 {
		return z, out, wire.Problemf(wire.Blocked, "Act %d of %s has not ended: beacon act show %d. Nothing was changed.", running.ID, r.Zone.Unicode(), running.ID)
	}
	if z.RevisionID != nil {
		c, err := zones.Contents(tx, *z.RevisionID)
		if err != nil {
			return z, out, err
		}
		out.Records = c.Len()
	}
	hosts, err := zones.HostsOf(tx, z.ID)
	out.Hosts = len(hosts)
	return z, out, err
}

// deleteGuards returns why a zone's records may still be needed: resolvers are led somewhere for it, or may still be.
func deleteGuards(r wire.DeleteRequest, report delegation.Report) (found []finding.Finding) {
	found = []finding.Finding{}
	say := func(code, message, remedy string) {
		found = append(found, finding.Finding{Code: code, Severity: finding.Error, Subject: r.Zone.Unicode(), Message: message,
			Remedy: remedy + " If it is intended all the same: --override " + code + " --reason TEXT."})
	}
	var names []dnsname.Name
	for _, source := range report.Parents {
		names = append(names, source.Nameservers...)
	}
	switch {
	case len(names) > 0:
		text := make([]string, 0, len(names))
		for _, n := range dnsname.SortSet(names) {
			text = append(text, dnsname.Short(n))
		}
		say(GuardStillDelegated, "The parent still delegates the domain, to "+strings.Join(text, ", ")+". The records here may be the only copy, and it is not checked any more.",
			"Let the delegation end first, or keep the zone.")
	case report.Verdict == delegation.Unknown:
		say(GuardStillDelegated, "Whether the parent still delegates the domain could not be asked.", "Check again when the parent answers (beacon check).")
	case report.Verdict == delegation.Settling:
		say(GuardStillAsked, "Caches may still ask for it: it has not settled that the delegation is gone.", "Wait until it has settled (beacon check).")
	}
	return found
}
