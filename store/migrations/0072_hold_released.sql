CREATE TABLE hold_released (
  placement_id BIGINT UNSIGNED NOT NULL PRIMARY KEY COMMENT 'may be written to although all is held',
  CONSTRAINT hold_released_placement FOREIGN KEY (placement_id) REFERENCES placements (id) ON DELETE CASCADE
)
