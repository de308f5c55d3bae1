package store

import "time"

// Kept is what grows, and is kept for a while.
type Kept string

// What is pruned. Lines of the logbook about single requests are many, and kept apart from the others.
const (
	KeptLogbook  Kept = "logbook"
	KeptRequests Kept = "requests"
	KeptSyncs    Kept = "syncs"
	KeptActs     Kept = "acts"
	KeptJobs     Kept = "jobs"
	KeptTokens   Kept = "tokens"
	KeptEvidence Kept = "evidence"
	KeptKeys     Kept = "keys"
	KeptVerified Kept = "verifications"
	KeptMoves    Kept = "handovers"
	KeptGathered Kept = "gatherings"
	KeptUpdates  Kept = "updates"
)

// pruning are statements that delete at most so many rows that ended before a moment, real time. The newest of each kind stay, whatever
// their age: the last number of the event stream, the last sync of a placement, the last report of a domain, its last handover.
var pruning = map[Kept]string{
	KeptLogbook: `DELETE FROM logbook WHERE id <= (SELECT MAX(id) FROM (SELECT id, at FROM logbook ORDER BY id LIMIT @most) oldest WHERE at < @before)
		AND id < (SELECT last FROM (SELECT MAX(id) AS last FROM logbook) newest)`,
	KeptRequests: `DELETE FROM logbook WHERE action IN ('request', 'request.failed') AND at < @before AND id < (SELECT last FROM (SELECT MAX(id) AS last FROM logbook) newest) LIMIT @most`,
	KeptSyncs: `DELETE FROM syncs WHERE id IN (SELECT id FROM (SELECT s.id FROM syncs s WHERE s.finished_at < @before AND s.state IN ('done', 'blocked', 'failed', 'cancelled')
		AND s.id < (SELECT MAX(n.id) FROM syncs n WHERE n.placement_id = s.placement_id AND n.scope = s.scope)
		AND NOT EXISTS (SELECT 1 FROM acts a WHERE a.sync_id = s.id AND a.state = 'sent') ORDER BY s.id LIMIT @most) old)`,
	KeptActs: `DELETE FROM acts WHERE id IN (SELECT id FROM (SELECT a.id FROM acts a LEFT JOIN acts p ON p.id = a.parent_id WHERE a.sync_id IS NULL AND a.finished_at < @before
		AND a.state NOT IN ('pending', 'running', 'retrying', 'sent') AND (p.id IS NULL OR p.finished_at < @before) ORDER BY a.id LIMIT @most) old)`,
	KeptJobs:     `DELETE FROM jobs WHERE state = 'done' AND due_at < @before LIMIT @most`,
	KeptUpdates:  `DELETE FROM update_answers WHERE at < @before LIMIT @most`,
	KeptKeys:     `DELETE FROM request_keys WHERE made_at < @before LIMIT @most`,
	KeptVerified: `DELETE FROM verifications WHERE finished_at < @before LIMIT @most`,
	KeptGathered: `DELETE FROM gatherings WHERE finished_at < @before LIMIT @most`,
	KeptMoves: `DELETE FROM handovers WHERE id IN (SELECT id FROM (SELECT h.id FROM handovers h WHERE h.state NOT IN ('open', 'paused')
		AND h.id < (SELECT MAX(n.id) FROM handovers n WHERE n.zone_id = h.zone_id)
		AND EXISTS (SELECT 1 FROM handover_marks m WHERE m.handover_id = h.id AND m.kind = 'ended' AND m.created_at < @before) ORDER BY h.id LIMIT @most) old)`,
	KeptTokens: `DELETE FROM tokens WHERE expires_at < @before LIMIT @most`,
	KeptEvidence: `DELETE FROM checks WHERE id IN (SELECT id FROM (SELECT c.id FROM checks c WHERE c.wall_at < @before
		AND c.id < (SELECT MAX(n.id) FROM checks n WHERE n.domain_id = c.domain_id) ORDER BY c.id LIMIT @most) old)`,
}

// Prune deletes at most so many rows of a kind that ended before a moment, and returns how many.
func (t *Tx) Prune(kind Kept, before time.Time, most int) (int64, error) {
	res := t.db.Exec(pruning[kind], map[string]any{"before": before, "most": most})
	return res.RowsAffected, res.Error
}
