package record

// SetChange is one set before and after.
type SetChange struct {
	Before Set `json:"before"`
	After  Set `json:"after"`
}

// SetText returns a set as people read it: its records, or "nothing" for none.
func SetText(s Set) string {
	if s.IsZero() {
		return "nothing"
	}
	return s.String()
}
