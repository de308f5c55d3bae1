CREATE TABLE glances (
  domain_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  at        DATETIME(6)     NOT NULL COMMENT 'wall time of the last brief look',
  verdict   VARCHAR(16)     NOT NULL COMMENT 'what it came to',
  gravest   VARCHAR(64)     NOT NULL COMMENT 'code of the gravest error or warning',
  seen      BINARY(16)      NOT NULL COMMENT 'print of how the domain stood then',
  KEY glances_at (at),
  CONSTRAINT glances_domain FOREIGN KEY (domain_id) REFERENCES domains (id) ON DELETE CASCADE
)
