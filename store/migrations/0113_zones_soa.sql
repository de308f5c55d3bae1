ALTER TABLE zones ADD COLUMN IF NOT EXISTS soa TEXT NULL COMMENT 'desired fields of the SOA record, JSON; NULL for none of its own'
