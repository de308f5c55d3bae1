ALTER TABLE logbook
  ADD COLUMN seq BIGINT UNSIGNED NULL COMMENT 'order in which lines became visible, given by the sequencer',
  ADD UNIQUE KEY logbook_seq (seq)
