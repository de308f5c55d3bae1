CREATE TABLE accounts (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name       VARCHAR(63)     NOT NULL,
  role       VARCHAR(16)     NOT NULL COMMENT 'provider or registrar',
  kind       VARCHAR(32)     NOT NULL COMMENT 'which driver',
  address    VARCHAR(255)    NOT NULL,
  sealed     VARBINARY(4096) NOT NULL COMMENT 'the credential, encrypted',
  created_at DATETIME(6)     NOT NULL,
  UNIQUE KEY accounts_name (name)
)
