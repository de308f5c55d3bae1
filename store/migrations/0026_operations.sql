CREATE TABLE operations (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  what       VARCHAR(255)    NOT NULL,
  author     VARCHAR(100)    NOT NULL,
  made_at    DATETIME(6)     NOT NULL,
  undoes_id  BIGINT UNSIGNED NULL COMMENT 'the operation that this one takes back',
  undone_id  BIGINT UNSIGNED NULL COMMENT 'the operation that took this one back'
)
