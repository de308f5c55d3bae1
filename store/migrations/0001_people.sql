CREATE TABLE people (
  id            BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name          VARCHAR(64)     NOT NULL,
  password_hash VARBINARY(255)  NOT NULL,
  created_at    DATETIME(6)     NOT NULL,
  UNIQUE KEY people_name (name)
)
