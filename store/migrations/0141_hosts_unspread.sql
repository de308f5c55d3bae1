ALTER TABLE hosts
  ADD COLUMN IF NOT EXISTS unspread BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'what was accepted last has not been asked to be written yet',
  ADD KEY IF NOT EXISTS hosts_unspread (unspread)
