CREATE TABLE IF NOT EXISTS handover_marks (
	id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
	handover_id BIGINT UNSIGNED NOT NULL,
	kind        VARCHAR(20) NOT NULL,
	about       VARCHAR(200) NOT NULL,
	at          DATETIME(6) NOT NULL,
	until       DATETIME(6) NULL,
	withdrawn   BOOLEAN NOT NULL,
	act_id      BIGINT UNSIGNED NULL,
	sync_id     BIGINT UNSIGNED NULL,
	said_by     VARCHAR(100) NOT NULL,
	detail      TEXT NOT NULL,
	created_at  DATETIME(6) NOT NULL,
	KEY handover_marks_of (handover_id, id),
	CONSTRAINT handover_marks_of FOREIGN KEY (handover_id) REFERENCES handovers (id) ON DELETE CASCADE
)
