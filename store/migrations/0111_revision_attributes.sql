ALTER TABLE revisions ADD COLUMN IF NOT EXISTS attributes TEXT NULL COMMENT 'declared attributes of sets, JSON; NULL where a revision is older than that'
