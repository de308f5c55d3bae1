ALTER TABLE revisions ADD COLUMN why VARCHAR(500) NOT NULL DEFAULT '' COMMENT 'in the words of whoever accepted it'
