INSERT IGNORE INTO turns (name) VALUES ('hosts')
