UPDATE hosts SET location_id = id, state = CONCAT('{"v4":{"addr":"', COALESCE(INET6_NTOA(v4), ''), '"},"v6":{"addr":"', COALESCE(INET6_NTOA(v6), ''), '"}}') WHERE location_id IS NULL
