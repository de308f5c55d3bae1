ALTER TABLE reports ADD COLUMN IF NOT EXISTS uplink VARCHAR(63) NOT NULL DEFAULT '' COMMENT 'that it was of; empty where time alone moved the host'
