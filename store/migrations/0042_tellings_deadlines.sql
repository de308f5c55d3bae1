ALTER TABLE tellings ADD COLUMN deadlines TEXT NOT NULL DEFAULT '[]' COMMENT 'JSON: those that were told and lie ahead' AFTER told_at
