ALTER TABLE zones
  ADD COLUMN extras       MEDIUMTEXT  NULL COMMENT 'declared attributes of sets, JSON',
  ADD COLUMN protect_sets TEXT        NULL COMMENT 'patterns of names that count alone, JSON',
  ADD COLUMN drift_policy VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'what becomes of changes made elsewhere: empty (ask), put back, adopt',
  ADD COLUMN only_ours    BOOLEAN     NOT NULL DEFAULT FALSE COMMENT 'records that we never placed are left, whatever is wanted'
