CREATE TABLE jobs (
  id       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  kind     VARCHAR(16)     NOT NULL,
  subject  BIGINT UNSIGNED NOT NULL,
  state    VARCHAR(8)      NOT NULL COMMENT 'open or done',
  due_at   DATETIME(6)     NOT NULL COMMENT 'when it may be taken; while leased, when the lease ends; wall time',
  holder   VARCHAR(64)     NOT NULL COMMENT 'who has the lease; empty for nobody',
  attempts INT UNSIGNED    NOT NULL,
  problem  TEXT            NOT NULL,
  UNIQUE KEY jobs_subject (kind, subject),
  KEY jobs_due (state, due_at, id)
)
