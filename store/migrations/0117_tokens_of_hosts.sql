INSERT IGNORE INTO tokens (host_id, hash, created_at) SELECT id, token_hash, created_at FROM hosts
