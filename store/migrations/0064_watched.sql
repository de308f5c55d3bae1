CREATE TABLE watched (
  id      TINYINT UNSIGNED NOT NULL PRIMARY KEY COMMENT '1: there is one followed folder',
  taken   CHAR(64)         NOT NULL COMMENT 'digest of the files that were accepted, or tried, last',
  trouble TEXT             NOT NULL COMMENT 'what was logged last; empty where all went well'
)
