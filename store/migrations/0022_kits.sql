CREATE TABLE kits (
  name       VARCHAR(63)  NOT NULL PRIMARY KEY,
  body       MEDIUMTEXT   NOT NULL COMMENT 'the kit as JSON',
  updated_at DATETIME(6)  NOT NULL
)
