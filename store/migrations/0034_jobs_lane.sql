ALTER TABLE jobs ADD COLUMN lane BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'the account that the work is at; 0 for none: a slow one must not hold up the others'
