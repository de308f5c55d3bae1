ALTER TABLE zones
  ADD COLUMN led_by       VARCHAR(255) NOT NULL DEFAULT '' COMMENT 'the definition file that says what it contains; empty for none',
  ADD COLUMN taken_over   BOOLEAN      NOT NULL DEFAULT FALSE COMMENT 'a person took it out of the hands of its file',
  ADD COLUMN leave_sets   TEXT         NOT NULL DEFAULT '[]' COMMENT 'patterns of sets that somebody else looks after, JSON',
  ADD COLUMN ttl          INT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'of records that state none, seconds; 0 for the commonest',
  ADD COLUMN draft        BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'rises with every change to its draft',
  ADD COLUMN rows_revision_id BIGINT UNSIGNED NULL COMMENT 'the revision that the table records shows'
