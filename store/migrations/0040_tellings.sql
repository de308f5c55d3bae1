CREATE TABLE tellings (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  domain_id  BIGINT UNSIGNED NOT NULL,
  channel    VARCHAR(100)    NOT NULL COMMENT 'its name in the settings',
  told       VARCHAR(16)     NOT NULL COMMENT 'the verdict that was told last',
  told_at    DATETIME(6)     NULL     COMMENT 'wall time',
  tries      INT UNSIGNED    NOT NULL COMMENT 'in vain, since then',
  problem    VARCHAR(600)    NOT NULL COMMENT 'why the last try was in vain',
  UNIQUE KEY tellings_channel (domain_id, channel),
  CONSTRAINT tellings_domain FOREIGN KEY (domain_id) REFERENCES domains (id) ON DELETE CASCADE
)
