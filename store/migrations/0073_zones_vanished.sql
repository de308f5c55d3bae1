ALTER TABLE zones ADD COLUMN vanished_at DATETIME(6) NULL COMMENT 'since when the file that manages it is gone, or does not name it any more'
