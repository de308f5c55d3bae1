ALTER TABLE intents ADD COLUMN receipt VARCHAR(255) NOT NULL DEFAULT '' COMMENT 'to ask with, where the provider only accepted at first'
