ALTER TABLE placements
  ADD COLUMN written_at  DATETIME(6)  NULL COMMENT 'last write, wall time: reads may lag behind it',
  ADD COLUMN looked_at   DATETIME(6)  NULL COMMENT 'when the live state was last compared, wall time',
  ADD COLUMN standing    VARCHAR(16)  NOT NULL DEFAULT '' COMMENT 'what that showed; empty for not yet',
  ADD COLUMN to_write    INT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'sets that differ from what is wanted by our doing',
  ADD COLUMN drifted     INT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'sets that were changed elsewhere',
  ADD COLUMN conflicting INT UNSIGNED NOT NULL DEFAULT 0,
  ADD COLUMN foreign_sets INT UNSIGNED NOT NULL DEFAULT 0,
  ADD COLUMN trouble     VARCHAR(500) NOT NULL DEFAULT '' COMMENT 'why it could not be compared',
  ADD COLUMN caps        TEXT         NULL COMMENT 'what the provider can do with it, JSON, as last told'
