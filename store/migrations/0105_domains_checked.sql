ALTER TABLE domains ADD KEY IF NOT EXISTS domains_checked (checked_at, name_key)
