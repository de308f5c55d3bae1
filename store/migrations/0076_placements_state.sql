ALTER TABLE placements RENAME COLUMN IF EXISTS standing TO state, RENAME COLUMN IF EXISTS to_write TO pending
