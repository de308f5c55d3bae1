ALTER TABLE syncs
  ADD COLUMN trouble VARCHAR(1000) NOT NULL DEFAULT '' COMMENT 'passing trouble that holds it up',
  ADD COLUMN trouble_since DATETIME(6) NULL,
  ADD COLUMN next_try_at DATETIME(6) NULL COMMENT 'while its state is retrying'
