CREATE TABLE IF NOT EXISTS samples (
  at DATETIME(6) NOT NULL PRIMARY KEY COMMENT 'real time',
  domains VARCHAR(500) NOT NULL COMMENT 'how many in each state, JSON',
  revisions INT UNSIGNED NOT NULL COMMENT 'accepted since the sample before',
  syncs INT UNSIGNED NOT NULL COMMENT 'done since then',
  sync_ms BIGINT UNSIGNED NULL COMMENT 'their median time',
  check_ms BIGINT UNSIGNED NULL COMMENT 'mean time of the last check of each domain'
)
