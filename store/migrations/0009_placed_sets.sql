CREATE TABLE placed_sets (
  placement_id BIGINT UNSIGNED   NOT NULL,
  name_key     VARBINARY(520)    NOT NULL,
  type         SMALLINT UNSIGNED NOT NULL,
  sent         MEDIUMTEXT        NOT NULL COMMENT 'the set as we sent it, JSON',
  read_back    MEDIUMTEXT        NULL COMMENT 'the set as it was read back; NULL before that was done, empty where it is as sent',
  PRIMARY KEY (placement_id, name_key, type),
  CONSTRAINT placed_sets_placement FOREIGN KEY (placement_id) REFERENCES placements (id) ON DELETE CASCADE
)
