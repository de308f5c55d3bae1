CREATE TABLE revision_origins (
  revision_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  body        MEDIUMTEXT      NOT NULL COMMENT 'which kit each set comes from, JSON; only where kits were used',
  CONSTRAINT revision_origins_revision FOREIGN KEY (revision_id) REFERENCES revisions (id) ON DELETE CASCADE
)
