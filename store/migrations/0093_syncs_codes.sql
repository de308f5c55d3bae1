UPDATE syncs SET findings = REPLACE(REPLACE(REPLACE(REPLACE(findings, '"text-not-held"', '"text-unsupported"'), '"type-not-held"', '"type-unsupported"'), '"gap-forced"', '"brief-outage"'), '"drift-left"', '"drift-not-reverted"')
  WHERE findings <> '[]'
