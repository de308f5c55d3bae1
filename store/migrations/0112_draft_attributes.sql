ALTER TABLE draft_edits ADD COLUMN IF NOT EXISTS attributes TEXT NULL COMMENT 'JSON; NULL where only records are edited'
