CREATE TABLE published (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  name_key   VARBINARY(520)  NOT NULL,
  serial     INT UNSIGNED    NOT NULL COMMENT 'of the newest version; rises in the arithmetic of RFC 1982',
  created_at DATETIME(6)     NOT NULL,
  UNIQUE KEY published_name (name_key),
  CONSTRAINT published_account FOREIGN KEY (account_id) REFERENCES accounts (id)
)
