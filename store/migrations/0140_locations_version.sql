ALTER TABLE locations ADD COLUMN IF NOT EXISTS version BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'counts what changes about it, its uplinks and its hosts'
