ALTER TABLE hosts
  ADD COLUMN IF NOT EXISTS location_id BIGINT UNSIGNED NULL COMMENT 'whose uplinks it follows',
  ADD COLUMN IF NOT EXISTS policy TEXT NOT NULL DEFAULT '{}' COMMENT 'what it does not inherit of its location, JSON',
  ADD COLUMN IF NOT EXISTS place VARCHAR(100) NOT NULL DEFAULT '' COMMENT 'subnet and interface below the prefix of the uplink, JSON; empty for the address of the uplink',
  ADD COLUMN IF NOT EXISTS state TEXT NOT NULL DEFAULT '{}' COMMENT 'what waits, and since when it is where it is, JSON',
  ADD CONSTRAINT hosts_location FOREIGN KEY IF NOT EXISTS (location_id) REFERENCES locations (id)
