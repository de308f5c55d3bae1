ALTER TABLE accounts ADD COLUMN private BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'its address may be one that only this network can reach'
