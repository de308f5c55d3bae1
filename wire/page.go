package wire

// Page is one page of a list: Next is the cursor of the following one, empty on the last.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}
