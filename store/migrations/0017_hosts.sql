CREATE TABLE hosts (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  zone_id    BIGINT UNSIGNED NOT NULL,
  name_key   VARBINARY(520)  NOT NULL,
  follows_v4 BOOLEAN         NOT NULL,
  follows_v6 BOOLEAN         NOT NULL,
  ttl        INT UNSIGNED    NOT NULL COMMENT 'of its record sets, seconds',
  token_hash BINARY(32)      NOT NULL COMMENT 'of the token that may report its address and nothing else',
  v4         VARBINARY(4)    NULL COMMENT 'where it stands: of the last accepted report',
  v6         VARBINARY(16)   NULL,
  report_id  BIGINT UNSIGNED NULL COMMENT 'the last accepted report',
  seen_at    DATETIME(6)     NULL COMMENT 'when it last reported, to the minute; wall time',
  created_by VARCHAR(100)    NOT NULL,
  created_at DATETIME(6)     NOT NULL,
  UNIQUE KEY hosts_name (name_key),
  UNIQUE KEY hosts_token (token_hash),
  CONSTRAINT hosts_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
)
