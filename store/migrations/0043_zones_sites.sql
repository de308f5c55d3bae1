ALTER TABLE zones ADD COLUMN site_names TEXT NULL COMMENT 'JSON: the names that carry a site; NULL for those that usually do' AFTER only_ours
