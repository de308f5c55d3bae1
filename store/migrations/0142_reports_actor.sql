ALTER TABLE reports
  ADD COLUMN IF NOT EXISTS actor VARCHAR(100) NOT NULL DEFAULT '' COMMENT 'who reported, or changed what the host follows',
  ADD COLUMN IF NOT EXISTS was VARCHAR(100) NOT NULL DEFAULT '' COMMENT 'addresses that the host had before'
