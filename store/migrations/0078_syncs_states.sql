UPDATE syncs SET state = CASE state WHEN 'waiting' THEN 'pending' WHEN 'held' THEN 'blocked' ELSE state END
