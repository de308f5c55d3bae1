CREATE TABLE IF NOT EXISTS children (
	name_key    VARBINARY(520) NOT NULL PRIMARY KEY,
	parent_id   BIGINT UNSIGNED NOT NULL,
	ttl         INT UNSIGNED NOT NULL,
	nameservers TEXT NOT NULL,
	hosts       MEDIUMTEXT NOT NULL,
	ds          TEXT NOT NULL,
	owned       MEDIUMTEXT NOT NULL,
	updated_by  VARCHAR(100) NOT NULL,
	updated_at  DATETIME(6) NOT NULL,
	KEY children_parent (parent_id, name_key),
	CONSTRAINT children_parent FOREIGN KEY (parent_id) REFERENCES zones (id) ON DELETE CASCADE
)
