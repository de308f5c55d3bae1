ALTER TABLE syncs ADD KEY syncs_newest (placement_id, scope, id)
