CREATE TABLE IF NOT EXISTS gatherings (
	id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
	domain       VARCHAR(1024) COLLATE utf8mb4_bin NOT NULL,
	asked        MEDIUMTEXT NOT NULL,
	state        VARCHAR(20) NOT NULL,
	step         VARCHAR(200) NOT NULL,
	found        LONGBLOB NOT NULL,
	problem      TEXT NOT NULL,
	requested_by VARCHAR(100) NOT NULL,
	created_at   DATETIME(6) NOT NULL,
	finished_at  DATETIME(6) NULL,
	KEY gatherings_domain (domain(255), id),
	KEY gatherings_finished (finished_at)
)
