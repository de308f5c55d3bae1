CREATE TABLE check_answers (
  domain_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  body MEDIUMBLOB NOT NULL COMMENT 'what was answered in the newest check, as JSON, gzip',
  CONSTRAINT check_answers_domain FOREIGN KEY (domain_id) REFERENCES domains (id) ON DELETE CASCADE
) ENGINE=InnoDB
