ALTER TABLE users ADD COLUMN IF NOT EXISTS grants TEXT NOT NULL DEFAULT '[{"role":"owner"}]' COMMENT 'what the user may do, JSON'
