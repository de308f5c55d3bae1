CREATE TABLE placement_others (
	placement_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
	contents     MEDIUMTEXT NOT NULL,
	CONSTRAINT placement_others_placement FOREIGN KEY (placement_id) REFERENCES placements (id) ON DELETE CASCADE
)
