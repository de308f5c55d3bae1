CREATE TABLE IF NOT EXISTS turns (name VARCHAR(32) NOT NULL PRIMARY KEY) COMMENT 'what one instance does at a time'
