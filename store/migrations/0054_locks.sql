CREATE TABLE locks (
  name VARCHAR(64) NOT NULL PRIMARY KEY COMMENT 'placement or domain, and its number',
  job_id BIGINT UNSIGNED NOT NULL,
  holder VARCHAR(64) NOT NULL COMMENT 'of the job; the lock lasts as long as its lease',
  taken BIGINT UNSIGNED NOT NULL COMMENT 'rises each time that it is taken'
)
