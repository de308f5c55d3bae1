CREATE TABLE account_paces (
  account_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  next_at    DATETIME(6)     NOT NULL COMMENT 'when the next request to the account may be made that no instance has reserved yet',
  CONSTRAINT account_paces_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
)
