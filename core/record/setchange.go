package record

// SetChange is one set before and after.
type SetChange struct {
	Before Set `json:"before"`
	After  Set `json:"after"`
}

// ChangedKeys returns the keys of changed sets.
func ChangedKeys(list []SetChange) []Key {
	keys := make([]Key, len(list))
	for i, c := range list {
		if keys[i] = c.After.Key(); c.After.IsZero() {
			keys[i] = c.Before.Key()
		}
	}
	return keys
}

// SetText returns a set as people read it: its records, or "nothing" for none.
func SetText(s Set) string {
	if s.IsZero() {
		return "nothing"
	}
	return s.String()
}
