CREATE TABLE tokens (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  person_id    BIGINT UNSIGNED NOT NULL,
  label        VARCHAR(100)    NOT NULL,
  hash         BINARY(32)      NOT NULL,
  rights       VARCHAR(100)    NOT NULL,
  created_at   DATETIME(6)     NOT NULL,
  expires_at   DATETIME(6)     NOT NULL,
  UNIQUE KEY tokens_hash (hash),
  KEY tokens_expiry (expires_at),
  CONSTRAINT tokens_person FOREIGN KEY (person_id) REFERENCES people (id) ON DELETE CASCADE
)
