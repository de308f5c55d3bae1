UPDATE zones SET drift_policy = CASE drift_policy WHEN 'ask' THEN 'manual' WHEN 'put back' THEN 'revert' ELSE drift_policy END
