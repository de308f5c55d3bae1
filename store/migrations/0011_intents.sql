CREATE TABLE intents (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  sync_id     BIGINT UNSIGNED NOT NULL,
  steps       MEDIUMTEXT      NOT NULL COMMENT 'JSON list',
  before_fp   VARCHAR(64)     NOT NULL COMMENT 'fingerprint of the sets before',
  after_fp    VARCHAR(64)     NOT NULL COMMENT 'and after',
  state       VARCHAR(16)     NOT NULL COMMENT 'sent, done, not done, partly',
  deadline    DATETIME(6)     NOT NULL COMMENT 'by then the request has ended, wall time',
  problem     TEXT            NOT NULL,
  created_at  DATETIME(6)     NOT NULL,
  finished_at DATETIME(6)     NULL,
  KEY intents_sync (sync_id, state),
  CONSTRAINT intents_sync FOREIGN KEY (sync_id) REFERENCES syncs (id) ON DELETE CASCADE
)
