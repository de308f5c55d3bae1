ALTER TABLE domains
  ADD KEY domains_verdict (verdict, name_key),
  ADD KEY domains_gravest (gravest, name_key),
  ADD KEY domains_counts (verdict, gravest)
