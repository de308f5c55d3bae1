UPDATE logbook SET action = CASE action WHEN 'domain.told' THEN 'notification.sent' WHEN 'domain.untold' THEN 'notification.failed'
  WHEN 'channel.tried' THEN 'channel.tested' WHEN 'zone.care' THEN 'zone.settings-changed' WHEN 'zone.placed' THEN 'zone.created'
  WHEN 'watch.taken' THEN 'files.applied' WHEN 'watch.left' THEN 'files.skipped' WHEN 'watch.unsynced' THEN 'files.not-synced'
  WHEN 'watch.refused' THEN 'files.refused' WHEN 'watch.failed' THEN 'files.unreadable' WHEN 'watch.vanished' THEN 'files.vanished'
  WHEN 'watch.not-pruned' THEN 'files.not-pruned' WHEN 'placement.drift-kept' THEN 'placement.drift-unresolved' WHEN 'person.added' THEN 'user.added'
  WHEN 'person.signed-in' THEN 'user.signed-in' WHEN 'zone.taken-over' THEN 'zone.detached' WHEN 'draft.dropped' THEN 'draft.discarded'
  WHEN 'glance.changed' THEN 'brief-check.changed' WHEN 'zone.defined' THEN 'zone.applied' WHEN 'operation.done' THEN 'bulk-change.done'
  WHEN 'place.failed' THEN 'vantage-point.failed' ELSE action END
