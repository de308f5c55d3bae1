ALTER TABLE zones RENAME COLUMN IF EXISTS label TO description, RENAME COLUMN IF EXISTS led_by TO managed_by, RENAME COLUMN IF EXISTS taken_over TO detached,
  RENAME COLUMN IF EXISTS leave_sets TO ignore_sets, RENAME COLUMN IF EXISTS extras TO attributes, RENAME COLUMN IF EXISTS only_ours TO keep_existing,
  RENAME COLUMN IF EXISTS site_names TO website_names
