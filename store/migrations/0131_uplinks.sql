CREATE TABLE IF NOT EXISTS uplinks (
  id            BIGINT UNSIGNED   NOT NULL AUTO_INCREMENT PRIMARY KEY,
  location_id   BIGINT UNSIGNED   NOT NULL,
  name          VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  place         SMALLINT UNSIGNED NOT NULL COMMENT 'the lowest one that reports is followed',
  state         TEXT              NOT NULL COMMENT 'what was reported of it, JSON',
  seen_at       DATETIME(6)       NULL COMMENT 'its last report that was not refused, simulated time',
  reported_at   DATETIME(6)       NULL COMMENT 'its last report, real time',
  reported_from VARCHAR(45)       NOT NULL DEFAULT '',
  refused       VARCHAR(255)      NOT NULL DEFAULT '' COMMENT 'why the last report was refused; empty where it was not',
  UNIQUE KEY uplinks_name (location_id, name),
  CONSTRAINT uplinks_location FOREIGN KEY (location_id) REFERENCES locations (id) ON DELETE CASCADE
) COMMENT 'lines of a location to the internet, each of which reports'
