RENAME TABLE IF EXISTS glance_runs TO brief_runs
