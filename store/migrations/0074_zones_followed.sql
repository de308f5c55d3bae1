ALTER TABLE zones ADD COLUMN followed BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'the file that manages it is in the followed folder'
