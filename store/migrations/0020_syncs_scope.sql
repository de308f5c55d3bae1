ALTER TABLE syncs
  ADD COLUMN scope VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'empty for the whole zone; hosts for the names that follow an address'
