ALTER TABLE acts
  ADD COLUMN turn BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'of the job that a request was sent under',
  ADD COLUMN trouble_since DATETIME(6) NULL COMMENT 'since when passing trouble holds it up',
  ADD COLUMN next_try_at DATETIME(6) NULL COMMENT 'while its state is retrying'
