CREATE TABLE aliases (
  zone_id     BIGINT UNSIGNED NOT NULL,
  name_key    VARBINARY(520)  NOT NULL,
  target      VARCHAR(1100)   NOT NULL,
  ttl         INT UNSIGNED    NOT NULL COMMENT 'of the answers, seconds',
  answers     TEXT            NOT NULL COMMENT 'addresses of the last good answer, JSON',
  problem     VARCHAR(500)    NOT NULL COMMENT 'why the last question failed; empty where it did not',
  differs     VARCHAR(500)    NOT NULL COMMENT 'how the servers of the target disagree; empty where they do not',
  asked_at    DATETIME(6)     NULL COMMENT 'world time',
  answered_at DATETIME(6)     NULL COMMENT 'of the last good answer, world time',
  PRIMARY KEY (zone_id, name_key),
  CONSTRAINT aliases_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
)
