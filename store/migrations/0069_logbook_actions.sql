ALTER TABLE logbook ADD KEY logbook_actions (action, at)
