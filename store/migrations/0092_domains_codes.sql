UPDATE domains SET gravest = CASE gravest WHEN 'site-left-early' THEN 'old-host-stopped' WHEN 'www-parts' THEN 'www-differs'
  WHEN 'places-disagree' THEN 'vantage-points-disagree' WHEN 'place-silent' THEN 'vantage-point-silent' ELSE gravest END
