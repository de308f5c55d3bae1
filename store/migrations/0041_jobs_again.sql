ALTER TABLE jobs ADD COLUMN again_at DATETIME(6) NULL COMMENT 'when it is due once more, asked for while somebody held it; wall time'
