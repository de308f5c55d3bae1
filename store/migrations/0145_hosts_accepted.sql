ALTER TABLE hosts ADD COLUMN IF NOT EXISTS accepted MEDIUMTEXT NOT NULL DEFAULT '' COMMENT 'reports that were accepted and are not spread yet, a line of JSON each'
