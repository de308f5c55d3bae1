CREATE TABLE checks (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  domain_id  BIGINT UNSIGNED NOT NULL,
  world_at   DATETIME(6)     NOT NULL,
  wall_at    DATETIME(6)     NOT NULL,
  verdict    VARCHAR(16)     NOT NULL,
  report     MEDIUMTEXT      NOT NULL COMMENT 'JSON',
  evidence   MEDIUMTEXT      NOT NULL COMMENT 'JSON',
  KEY checks_domain (domain_id, id),
  CONSTRAINT checks_domain FOREIGN KEY (domain_id) REFERENCES domains (id) ON DELETE CASCADE
)
