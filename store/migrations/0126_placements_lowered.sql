ALTER TABLE placements ADD COLUMN IF NOT EXISTS lowered VARCHAR(200) NOT NULL DEFAULT '' COMMENT 'TTLs that are low there while a domain moves, JSON'
