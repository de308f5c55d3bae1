ALTER TABLE jobs ADD KEY jobs_next (state, kind, due_at)
