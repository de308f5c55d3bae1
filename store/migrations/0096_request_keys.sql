CREATE TABLE request_keys (
  caller VARCHAR(250) NOT NULL,
  name VARCHAR(250) NOT NULL,
  digest BINARY(32) NOT NULL,
  status SMALLINT NOT NULL,
  body LONGTEXT NOT NULL,
  made_at DATETIME(6) NOT NULL,
  PRIMARY KEY (caller, name),
  KEY made (made_at)
)
