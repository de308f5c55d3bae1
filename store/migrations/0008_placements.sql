CREATE TABLE placements (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  zone_id     BIGINT UNSIGNED NOT NULL,
  account_id  BIGINT UNSIGNED NOT NULL,
  remote_id   VARCHAR(255)    NOT NULL COMMENT 'how the provider names the zone; empty until it is made there',
  nameservers TEXT            NOT NULL COMMENT 'JSON list',
  created_at  DATETIME(6)     NOT NULL,
  UNIQUE KEY placements_zone (zone_id, account_id),
  CONSTRAINT placements_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE,
  CONSTRAINT placements_account FOREIGN KEY (account_id) REFERENCES accounts (id)
)
