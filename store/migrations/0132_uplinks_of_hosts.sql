INSERT IGNORE INTO uplinks (id, location_id, name, place, state, seen_at, reported_at)
  SELECT id, id, 'main', 0, CONCAT('{"v4":"', COALESCE(INET6_NTOA(v4), ''), '","v6":"', COALESCE(INET6_NTOA(v6), ''), '"}'), seen_at, seen_at FROM hosts
