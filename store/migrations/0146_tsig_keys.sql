CREATE TABLE IF NOT EXISTS tsig_keys (
  id             BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name           VARCHAR(255)    NOT NULL COMMENT 'of the key, a domain name in canonical form with final dot',
  algorithm      VARCHAR(32)     NOT NULL COMMENT 'such as hmac-sha256',
  sealed         VARBINARY(512)  NOT NULL COMMENT 'the secret',
  uplink_id      BIGINT UNSIGNED NOT NULL COMMENT 'that its updates are reports of',
  created_by     VARCHAR(100)    NOT NULL,
  created_at     DATETIME(6)     NOT NULL COMMENT 'real time',
  first_used_at  DATETIME(6)     NULL     COMMENT 'real time',
  last_used_at   DATETIME(6)     NULL     COMMENT 'real time, to the minute',
  last_used_from VARCHAR(45)     NOT NULL DEFAULT '',
  UNIQUE KEY tsig_keys_name (name),
  CONSTRAINT tsig_keys_uplink FOREIGN KEY (uplink_id) REFERENCES uplinks (id) ON DELETE CASCADE
)
