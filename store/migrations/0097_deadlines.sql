CREATE TABLE IF NOT EXISTS deadlines (
  domain_id BIGINT UNSIGNED NOT NULL,
  code VARCHAR(64) NOT NULL,
  subject VARCHAR(260) NOT NULL,
  ends_at DATETIME(6) NOT NULL,
  PRIMARY KEY (domain_id, code, subject),
  KEY deadlines_ends (ends_at),
  CONSTRAINT deadlines_domain FOREIGN KEY (domain_id) REFERENCES domains (id) ON DELETE CASCADE
)
