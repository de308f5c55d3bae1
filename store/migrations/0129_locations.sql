CREATE TABLE IF NOT EXISTS locations (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name        VARCHAR(63) COLLATE utf8mb4_bin NULL COMMENT 'none: it belongs to its one host',
  description VARCHAR(200)    NOT NULL DEFAULT '',
  policy      TEXT            NOT NULL COMMENT 'what its hosts inherit, JSON',
  created_by  VARCHAR(100)    NOT NULL,
  created_at  DATETIME(6)     NOT NULL,
  since       DATETIME(6)     NULL COMMENT 'simulated time from which silence counts; none: created_at',
  UNIQUE KEY locations_name (name)
) COMMENT 'places whose hosts follow the best uplink that reports'
