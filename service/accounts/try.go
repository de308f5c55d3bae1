package accounts

import (
	"context"
	"encoding/json"
	"slices"

	"beacon/core/finding"
	"beacon/provider"
	"beacon/store"
	"beacon/wire"
)

func rightsText(list []string) string {
	if list == nil {
		list = []string{}
	}
	text, _ := json.Marshal(list) // texts always encode
	return string(text)
}

// try makes first requests with a credential.
func (s *Accounts) try(ctx context.Context, a store.Account, secret string) (t wire.Tried, err error) {
	ctx, cancel := context.WithTimeout(ctx, 2*s.timeout)
	defer cancel()
	if a.Role == wire.RoleRegistrar {
		driver, err := s.registrarWith(a, secret)
		if err != nil {
			return t, err
		}
		page, err := driver.Domains(ctx, "")
		return wire.Tried{Seen: len(page.Registrations), Rights: []string{}, Findings: []finding.Finding{}}, err
	}
	driver, err := s.driverWith(a, secret)
	if err != nil {
		return t, err
	}
	t = wire.Tried{Seen: -1, Findings: []finding.Finding{}}
	err = driver.Probe(ctx)
	if kind, _ := s.kinds.known(a.Kind); err == nil && !kind.Unlisted {
		var page provider.ZonePage
		page, err = driver.Zones(ctx, "")
		t.Seen = len(page.Zones)
	}
	if err != nil {
		return t, err
	}
	rights, err := driver.Rights(ctx)
	if err != nil {
		return t, err
	}
	for _, r := range rights {
		t.Rights = append(t.Rights, string(r))
	}
	t.Findings = judgeRights(a.Name, t.Rights)
	return t, nil
}

// judgeRights returns where a credential may more than is needed, or less.
func judgeRights(account string, rights []string) []finding.Finding {
	found := []finding.Finding{}
	if len(rights) == 0 {
		return found
	}
	if slices.Contains(rights, string(provider.Keys)) {
		found = append(found, finding.Finding{Code: "credential-too-strong", Severity: finding.Warning, Subject: account,
			Message: "The credential may manage credentials, which is never needed here: a thief of it could lock you out.",
			Remedy:  "Make one at the provider that may read and write records (and make zones, if zones are to be made), then give it: beacon provider rotate " + account + "."})
	}
	if !slices.Contains(rights, string(provider.WriteRecords)) {
		found = append(found, finding.Finding{Code: "credential-read-only", Severity: finding.Warning, Subject: account,
			Message: "The credential may only read: zones can be compared, and nothing can be written.",
			Remedy:  "If zones are to be written there, give one that may: beacon provider rotate " + account + "."})
	}
	return found
}
