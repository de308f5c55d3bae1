package sync

import (
	"beacon/core/dnsname"
	"beacon/store"
	"beacon/wire"
)

// ViewSync returns a sync of a zone at an account as it is shown.
func ViewSync(s store.Sync, zone dnsname.Name, account string) *wire.SyncView {
	var retrying *wire.Retrying
	if s.State == store.SyncRetrying && s.TroubleSince != nil && s.NextTryAt != nil {
		retrying = &wire.Retrying{Problem: s.Trouble, Since: *s.TroubleSince, NextTry: *s.NextTryAt}
	}
	return &wire.SyncView{Retrying: retrying, Zone: zone, Account: account, ID: s.ID, State: wire.SyncState(s.State), Total: s.Total, Added: s.Added, Changed: s.Changed, Removed: s.Removed, Requests: s.Requests,
		Message: s.Message, Findings: s.FindingList(), CreatedAt: s.CreatedAt, FinishedAt: s.FinishedAt, VisibleMS: s.VisibleMS, RequestedBy: s.RequestedBy}
}
