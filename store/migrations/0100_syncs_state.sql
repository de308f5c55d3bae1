ALTER TABLE syncs ADD KEY IF NOT EXISTS syncs_state (state, id)
