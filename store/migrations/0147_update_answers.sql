CREATE TABLE IF NOT EXISTS update_answers (
  key_id BIGINT UNSIGNED   NOT NULL,
  mac    BINARY(32)        NOT NULL COMMENT 'SHA-256 of the signature of the update',
  rcode  SMALLINT UNSIGNED NOT NULL,
  lease  INT UNSIGNED      NOT NULL COMMENT 'that was granted, seconds; 0 for none',
  at     DATETIME(6)       NOT NULL COMMENT 'real time',
  PRIMARY KEY (key_id, mac),
  KEY update_answers_at (at),
  CONSTRAINT update_answers_key FOREIGN KEY (key_id) REFERENCES tsig_keys (id) ON DELETE CASCADE
)
