package store

// Orphan is work whose job ended without it, or that never had one.
type Orphan struct {
	Kind    string
	Subject uint64
	Lane    uint64
}

// Orphans returns syncs and acts that have not ended and that no open job is about, and recurring work whose job ended.
func (t *Tx) Orphans(limit int) (list []Orphan, err error) {
	for _, query := range []string{
		`SELECT IF(s.scope = 'hosts', 'urgent', 'sync') AS kind, s.id AS subject, p.account_id AS lane FROM syncs s JOIN placements p ON p.id = s.placement_id
			WHERE s.state IN ('pending', 'running', 'retrying') AND NOT EXISTS
				(SELECT 1 FROM jobs j WHERE j.kind = IF(s.scope = 'hosts', 'urgent', 'sync') AND j.subject = s.id AND j.state = 'open') LIMIT ?`,
		`SELECT 'act' AS kind, a.id AS subject, a.account_id AS lane FROM acts a WHERE a.state IN ('pending', 'running', 'retrying') AND a.parent_id IS NULL AND a.sync_id IS NULL
			AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.kind = 'act' AND j.subject = a.id AND j.state = 'open') LIMIT ?`,
		`SELECT 'check' AS kind, d.id AS subject, 0 AS lane FROM jobs j JOIN domains d ON d.id = j.subject WHERE j.kind = 'check' AND j.state = 'done' LIMIT ?`,
		`SELECT 'look' AS kind, a.id AS subject, a.id AS lane FROM jobs j JOIN accounts a ON a.id = j.subject WHERE j.kind = 'look' AND j.state = 'done' LIMIT ?`,
		`SELECT 'probe' AS kind, t.account_id AS subject, 0 AS lane FROM account_troubles t
			WHERE NOT EXISTS (SELECT 1 FROM jobs j WHERE j.kind = 'probe' AND j.subject = t.account_id AND j.state = 'open') LIMIT ?`,
	} {
		var some []Orphan
		if err := t.db.Raw(query, limit).Scan(&some).Error; err != nil {
			return nil, err
		}
		list = append(list, some...)
	}
	return list, nil
}
