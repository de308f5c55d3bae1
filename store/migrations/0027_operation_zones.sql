CREATE TABLE operation_zones (
  operation_id BIGINT UNSIGNED NOT NULL,
  zone_id      BIGINT UNSIGNED NOT NULL,
  revision_id  BIGINT UNSIGNED NOT NULL COMMENT 'the revision that it made',
  steps        MEDIUMTEXT      NOT NULL COMMENT 'the sets before and after, JSON',
  PRIMARY KEY (operation_id, zone_id),
  CONSTRAINT operation_zones_operation FOREIGN KEY (operation_id) REFERENCES operations (id) ON DELETE CASCADE,
  CONSTRAINT operation_zones_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
)
