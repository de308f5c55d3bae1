CREATE TABLE IF NOT EXISTS verifications (
	id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
	account_id   BIGINT UNSIGNED NOT NULL,
	subject      VARCHAR(600) NOT NULL,
	nameservers  TEXT NOT NULL,
	requested_by VARCHAR(100) NOT NULL,
	state        VARCHAR(20) NOT NULL,
	checks       INT UNSIGNED NOT NULL,
	results      MEDIUMTEXT NOT NULL,
	problem      TEXT NOT NULL,
	created_at   DATETIME(6) NOT NULL,
	finished_at  DATETIME(6),
	KEY verifications_account (account_id, id),
	CONSTRAINT verifications_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
)
