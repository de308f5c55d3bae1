CREATE TABLE draft_edits (
  zone_id    BIGINT UNSIGNED   NOT NULL,
  name_key   VARBINARY(520)    NOT NULL,
  type       SMALLINT UNSIGNED NOT NULL,
  set_before MEDIUMTEXT        NOT NULL COMMENT 'the set that the edit was made to, JSON; its data are empty where there was none',
  set_after  MEDIUMTEXT        NOT NULL,
  author     VARCHAR(100)      NOT NULL,
  edited_at  DATETIME(6)       NOT NULL,
  PRIMARY KEY (zone_id, name_key, type),
  CONSTRAINT draft_edits_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
)
