ALTER TABLE syncs ADD KEY IF NOT EXISTS syncs_finished (finished_at)
