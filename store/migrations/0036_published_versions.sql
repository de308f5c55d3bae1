CREATE TABLE published_versions (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  published_id BIGINT UNSIGNED NOT NULL,
  serial       INT UNSIGNED    NOT NULL,
  contents     LONGTEXT        NOT NULL COMMENT 'records, a line each, without SOA and apex NS',
  created_at   DATETIME(6)     NOT NULL,
  UNIQUE KEY published_versions_serial (published_id, serial),
  CONSTRAINT published_versions_zone FOREIGN KEY (published_id) REFERENCES published (id) ON DELETE CASCADE
)
