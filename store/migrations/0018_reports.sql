CREATE TABLE reports (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  host_id     BIGINT UNSIGNED NOT NULL,
  outcome     VARCHAR(16)     NOT NULL COMMENT 'accepted or refused; what is unchanged is not kept',
  reason      VARCHAR(255)    NOT NULL COMMENT 'why it was refused',
  v4          VARCHAR(15)     NOT NULL COMMENT 'as reported; empty for none',
  v6          VARCHAR(45)     NOT NULL,
  peer        VARCHAR(45)     NOT NULL COMMENT 'who sent it',
  times       INT UNSIGNED    NOT NULL COMMENT 'how often in a row the same was refused',
  reported_at DATETIME(6)     NOT NULL COMMENT 'wall time, when it came in',
  accepted_at DATETIME(6)     NULL COMMENT 'wall time',
  KEY reports_host (host_id, id),
  CONSTRAINT reports_host FOREIGN KEY (host_id) REFERENCES hosts (id) ON DELETE CASCADE
)
