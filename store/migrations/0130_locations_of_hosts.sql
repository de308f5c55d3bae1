INSERT IGNORE INTO locations (id, policy, created_by, created_at) SELECT id, '{}', created_by, created_at FROM hosts
