UPDATE domains d SET wanted = '[]' WHERE NOT EXISTS (
  SELECT 1 FROM placements p WHERE p.zone_id = d.zone_id AND JSON_LENGTH(p.nameservers) > 0
    AND JSON_CONTAINS(p.nameservers, d.wanted) AND JSON_CONTAINS(d.wanted, p.nameservers))
