CREATE TABLE chunks (
  digest BINARY(32) NOT NULL PRIMARY KEY COMMENT 'SHA-256 of body',
  body   MEDIUMBLOB NOT NULL COMMENT 'records, one a line'
)
