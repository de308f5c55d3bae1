ALTER TABLE accounts
  ADD COLUMN rights     VARCHAR(500) NOT NULL DEFAULT '[]' COMMENT 'what the credential may do, JSON; empty for not told',
  ADD COLUMN used_at    DATETIME(6)  NULL COMMENT 'last request with it, wall time',
  ADD COLUMN rotated_at DATETIME(6)  NULL
