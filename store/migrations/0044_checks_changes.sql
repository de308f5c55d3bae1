ALTER TABLE checks
  ADD COLUMN first_at DATETIME(6) NULL COMMENT 'world time of the first of the checks in a row that came to the same' AFTER domain_id,
  MODIFY COLUMN world_at DATETIME(6) NOT NULL COMMENT 'of the last of them',
  MODIFY COLUMN report MEDIUMBLOB NOT NULL COMMENT 'of the last of them, as JSON, gzip',
  MODIFY COLUMN evidence MEDIUMBLOB NOT NULL COMMENT 'of the last of them, as JSON, gzip'
