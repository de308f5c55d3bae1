ALTER TABLE acts ADD KEY IF NOT EXISTS acts_finished (kind, finished_at)
