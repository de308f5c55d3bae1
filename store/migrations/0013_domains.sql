CREATE TABLE domains (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  zone_id     BIGINT UNSIGNED NOT NULL,
  wanted      TEXT            NOT NULL COMMENT 'nameservers it shall be delegated to, JSON list',
  history     MEDIUMTEXT      NOT NULL COMMENT 'what earlier sweeps established, JSON',
  verdict     VARCHAR(16)     NOT NULL COMMENT 'of the last check; empty before the first',
  settles_by  DATETIME(6)     NULL COMMENT 'world time',
  checked_at  DATETIME(6)     NULL COMMENT 'world time',
  UNIQUE KEY domains_zone (zone_id),
  CONSTRAINT domains_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
)
