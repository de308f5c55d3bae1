RENAME TABLE IF EXISTS glance_pages TO brief_pages
