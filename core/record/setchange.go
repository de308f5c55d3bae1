package record

// SetChange is one set before and after.
type SetChange struct {
	Before Set `json:"before"`
	After  Set `json:"after"`
}
