ALTER TABLE domains ADD KEY IF NOT EXISTS domains_settles (settles_by, name_key)
