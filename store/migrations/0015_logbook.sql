CREATE TABLE logbook (
  id      BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at      DATETIME(6)     NOT NULL COMMENT 'wall time',
  actor   VARCHAR(100)    NOT NULL,
  action  VARCHAR(64)     NOT NULL,
  subject VARCHAR(600)    NOT NULL,
  detail  TEXT            NOT NULL,
  KEY logbook_subject (subject, id)
)
