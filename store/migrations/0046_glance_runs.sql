CREATE TABLE glance_runs (
  id       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  began    DATETIME(6)     NOT NULL COMMENT 'wall time at which all domains were to be looked at briefly',
  ended    DATETIME(6)     NULL     COMMENT 'wall time at which the last of them was; null: not yet',
  domains  INT UNSIGNED    NOT NULL COMMENT 'that there were',
  reached  BIGINT UNSIGNED NOT NULL COMMENT 'the domains up to this id were looked at',
  looked   INT UNSIGNED    NOT NULL COMMENT 'how many those are',
  verdicts TEXT            NOT NULL COMMENT 'how they stand: JSON, a number for each verdict'
)
