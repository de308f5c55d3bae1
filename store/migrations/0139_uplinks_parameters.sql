ALTER TABLE uplinks ADD COLUMN IF NOT EXISTS parameters VARCHAR(1000) NOT NULL DEFAULT '' COMMENT 'names that its client has for what it reports, JSON; empty for ours'
