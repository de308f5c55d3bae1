ALTER TABLE tokens RENAME COLUMN IF EXISTS person_id TO user_id
