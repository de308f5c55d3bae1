CREATE TABLE heartbeat (
  id TINYINT UNSIGNED NOT NULL PRIMARY KEY COMMENT '1',
  at DATETIME(6)      NOT NULL COMMENT 'when an instance last tried whether the database takes writes'
)
