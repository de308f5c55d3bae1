ALTER TABLE domains ADD COLUMN name_key VARBINARY(520) NOT NULL DEFAULT '' COMMENT 'of the zone, for lists in its order'
