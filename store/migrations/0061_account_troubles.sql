CREATE TABLE account_troubles (
  account_id  BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  since       DATETIME(6)     NOT NULL COMMENT 'when it was first seen',
  problem     VARCHAR(1000)   NOT NULL,
  probes      INT UNSIGNED    NOT NULL COMMENT 'that were made and failed',
  next_try_at DATETIME(6)     NOT NULL,
  CONSTRAINT account_troubles_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
)
