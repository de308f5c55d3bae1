INSERT IGNORE INTO acts (id, kind, subject, sync_id, account_id, requested_by, state, intended, receipt, deadline, problem, created_at, finished_at)
SELECT i.id, 'records', '', i.sync_id, p.account_id, s.requested_by,
  CASE i.state WHEN 'not done' THEN 'not-applied' WHEN 'partly' THEN 'partial' ELSE i.state END,
  i.steps, i.receipt, i.deadline, i.problem, i.created_at, i.finished_at
FROM intents i JOIN syncs s ON s.id = i.sync_id JOIN placements p ON p.id = s.placement_id
