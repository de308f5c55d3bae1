ALTER TABLE revisions ADD KEY IF NOT EXISTS revisions_created (created_at)
