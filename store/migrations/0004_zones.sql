CREATE TABLE zones (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name_key     VARBINARY(520)  NOT NULL COMMENT 'the name in canonical order',
  label        VARCHAR(255)    NOT NULL,
  registrar_id BIGINT UNSIGNED NULL,
  revision_id  BIGINT UNSIGNED NULL COMMENT 'the accepted revision',
  created_at   DATETIME(6)     NOT NULL,
  UNIQUE KEY zones_name (name_key),
  CONSTRAINT zones_registrar FOREIGN KEY (registrar_id) REFERENCES accounts (id)
)
