ALTER TABLE domains ADD COLUMN gravest VARCHAR(64) NOT NULL DEFAULT '' COMMENT 'code of the gravest finding of the newest check'
