ALTER TABLE jobs ADD COLUMN turn BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'rises each time that the job is taken; every outcome names it'
