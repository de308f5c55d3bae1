ALTER TABLE zones ADD COLUMN delegate_to_id BIGINT UNSIGNED NULL COMMENT 'the provider account whose nameservers are desired, once it has assigned them'
