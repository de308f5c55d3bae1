ALTER TABLE placements ADD COLUMN our_sets INT NOT NULL DEFAULT 0 COMMENT 'that differ, and that this service wrote itself before its database went back'
