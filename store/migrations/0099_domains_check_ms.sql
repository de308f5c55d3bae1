ALTER TABLE domains ADD COLUMN IF NOT EXISTS check_ms INT UNSIGNED NULL COMMENT 'how long the last check took, real time'
