UPDATE placements SET state = CASE state WHEN 'in step' THEN 'in-sync' WHEN 'to write' THEN 'pending' ELSE state END
