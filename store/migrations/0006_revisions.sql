CREATE TABLE revisions (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  zone_id    BIGINT UNSIGNED NOT NULL,
  number     INT UNSIGNED    NOT NULL COMMENT 'counts from 1 within the zone',
  digest     BINARY(32)      NOT NULL COMMENT 'of the whole contents',
  records    INT UNSIGNED    NOT NULL,
  author     VARCHAR(100)    NOT NULL,
  source     VARCHAR(255)    NOT NULL COMMENT 'where it came from: a file, an import',
  created_at DATETIME(6)     NOT NULL,
  UNIQUE KEY revisions_number (zone_id, number),
  CONSTRAINT revisions_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
)
