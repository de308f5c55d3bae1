CREATE TABLE glance_pages (
  page      BIGINT UNSIGNED NOT NULL PRIMARY KEY COMMENT 'of a thousand ids of domains each',
  unsettled INT UNSIGNED    NOT NULL COMMENT 'how many looks came to anything but settled',
  looks     MEDIUMTEXT      NOT NULL COMMENT 'what the last brief look at each came to: a line for each domain'
)
