UPDATE acts SET result = REPLACE(result, '"verdict":"wrong"', '"verdict":"needs-action"') WHERE result LIKE '%"verdict":"wrong"%'
