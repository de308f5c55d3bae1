CREATE TABLE arrivals (
  report_id    BIGINT UNSIGNED NOT NULL,
  placement_id BIGINT UNSIGNED NOT NULL,
  written_at   DATETIME(6)     NULL COMMENT 'the provider has confirmed it; wall time',
  visible_at   DATETIME(6)     NULL COMMENT 'every nameserver of the placement serves it; wall time',
  settles_by   DATETIME(6)     NULL COMMENT 'every cache has let go of what was before; world time',
  PRIMARY KEY (report_id, placement_id),
  KEY arrivals_placement (placement_id),
  CONSTRAINT arrivals_report FOREIGN KEY (report_id) REFERENCES reports (id) ON DELETE CASCADE,
  CONSTRAINT arrivals_placement FOREIGN KEY (placement_id) REFERENCES placements (id) ON DELETE CASCADE
)
