CREATE TABLE IF NOT EXISTS later_edits (
  zone_id BIGINT UNSIGNED NOT NULL,
  name_key VARBINARY(520) NOT NULL,
  type SMALLINT UNSIGNED NOT NULL,
  set_before MEDIUMTEXT NOT NULL COMMENT 'what was accepted in its place, JSON',
  set_after MEDIUMTEXT NOT NULL COMMENT 'what is proposed once no cache asks the old nameservers, JSON',
  author VARCHAR(100) NOT NULL,
  edited_at DATETIME(6) NOT NULL,
  PRIMARY KEY (zone_id, name_key, type),
  CONSTRAINT later_edits_zone FOREIGN KEY (zone_id) REFERENCES zones (id) ON DELETE CASCADE
) COMMENT 'edits that are proposed as a draft after a handover'
