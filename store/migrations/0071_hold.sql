CREATE TABLE hold (
  id     TINYINT UNSIGNED NOT NULL PRIMARY KEY COMMENT '1: one hold is on everything',
  since  DATETIME(6)      NOT NULL,
  reason VARCHAR(500)     NOT NULL,
  asked  VARCHAR(100)     NOT NULL COMMENT 'who asked for it; service where the database went back'
)
